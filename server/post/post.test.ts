import { createHash, createHmac } from 'node:crypto';
import { createServer, type IncomingHttpHeaders, type Server } from 'node:http';
import type { AddressInfo } from 'node:net';
import { desc, eq } from 'drizzle-orm';
import type { ProjectId } from '#core/model.ts';
import { TestSite } from '#test/site.ts';
import { alerts, messages } from '../db/schema/post.ts';
import { receipts } from '../db/schema/receipts.ts';
import { site as siteTable } from '../db/schema/site.ts';
import { volumes } from '../db/schema/stores.ts';
import { postpone } from '../site/postponed.ts';
import { itemsHash, writeReceipt } from '../runtime/receipts.ts';
import { inTransaction } from '../db/connect.ts';
import { putDown, postState, postTrouble, sendDue } from './outbox.ts';
import { postRule, postRuleOf, type PostRule, setPostRule } from './post-rule.ts';
import { signed } from './send.ts';
import { type MailStandIn, startMailServer } from './stand-in.ts';
import { sendTest, tellByItself } from './telling.ts';

const by = { who: 'Mara', now: new Date('2026-03-02T06:00:00') };
const at = (text: string) => new Date(`2026-03-${text}:00`);
const secrets = { mailPassword: 'sesame', webhookSecret: 'a secret' };

let site: TestSite;
let mail: MailStandIn;
beforeEach(async () => {
  site = await TestSite.open();
  mail = await startMailServer();
});
afterEach(async () => {
  await mail.stop();
  await site.close();
});

const mailRule = (more: Partial<PostRule> = {}): PostRule =>
  postRule.parse({
    ...{ host: '127.0.0.1', port: mail.port, encryption: 'none', from: 'keramion@house.example' },
    ...{ to: ['media@house.example'], address: 'https://keramion.house.example', ...more },
  });
const setRule = (rule: PostRule) => setPostRule(site.db, rule, by);
const tell = (now: Date) => tellByItself(site.db, now, { secrets });
const subjects = () => mail.mails.map(({ raw }) => /^Subject: (.*)$/m.exec(raw)![1]);

interface Taken {
  headers: IncomingHttpHeaders;
  body: string;
}
/** Listens as a program of the house would; answers with what `answers` gives, 200 in the end. */
async function listener(answers: number[] = []): Promise<{ url: string; taken: Taken[]; stop: () => Promise<void> }> {
  const taken: Taken[] = [];
  const server: Server = createServer((request, response) => {
    let body = '';
    request.setEncoding('utf8').on('data', (text: string) => (body += text));
    request.on('end', () => {
      const status = answers.shift() ?? 200;
      if (status === 200) taken.push({ headers: request.headers, body });
      response.writeHead(status, status === 302 ? { Location: 'http://127.0.0.1:1/' } : {}).end();
    });
  });
  await new Promise<void>((resolve) => server.listen(0, '127.0.0.1', resolve));
  const url = `http://127.0.0.1:${(server.address() as AddressInfo).port}/hook`;
  return { url, taken, stop: () => new Promise((resolve) => void server.close(() => resolve())) };
}

async function fill(name: string, share: number): Promise<void> {
  await site.db
    .update(volumes)
    .set({ quota: false, capacityBytes: 1e12, freeBytes: (1 - share) * 1e12 })
    .where(eq(volumes.name, name));
}

test('nothing is told unless the house says so', async () => {
  expect(await tell(at('02T09:00'))).toBe(0);
  expect(await site.db.select().from(messages)).toEqual([]);
});

test('one mail a morning, after its hour, with what needs somebody and where to go; changing what is told leaves a receipt', async () => {
  await site.volume('scratch');
  await setRule(mailRule({ alerts: false }));
  await tell(at('02T06:59'));
  expect(mail.mails).toEqual([]);
  expect(await tell(at('02T07:00'))).toBe(1);
  await tell(at('02T07:01'));
  await tell(at('02T23:00'));
  expect(mail.mails).toHaveLength(1);
  const [{ from, to, raw }] = mail.mails as [MailStandIn['mails'][number]];
  expect([from, to]).toEqual(['keramion@house.example', ['media@house.example']]);
  expect(raw).toMatch(/scratch was never read/);
  expect(raw).toMatch(/https:\/\/keramion\.house\.example\/nights/);
  expect(raw).toMatch(/^Auto-Submitted: auto-generated/m);
  await tell(at('03T07:00'));
  expect(mail.mails).toHaveLength(2);
  expect((await site.db.select().from(receipts)).map((one) => one.action)).toContain('post changed');
});

test('what cannot wait is told once, again when it comes back later, and not while it is put off', async () => {
  await site.volume('scratch');
  await setRule(mailRule({ hour: 23 }));
  await tell(at('02T09:00'));
  expect(mail.mails).toEqual([]);
  await fill('scratch', 0.995);
  await tell(at('02T09:01'));
  await tell(at('02T09:02'));
  expect(subjects()).toEqual([expect.stringContaining('scratch is 99 % full')]);
  // Over for a moment: the same still.
  await fill('scratch', 0.5);
  await tell(at('02T10:00'));
  await fill('scratch', 0.995);
  await tell(at('02T10:05'));
  expect(mail.mails).toHaveLength(1);
  await fill('scratch', 0.5);
  await tell(at('02T11:00'));
  await fill('scratch', 0.995);
  await tell(at('02T20:00'));
  expect(mail.mails).toHaveLength(2);
  const [{ decision }] = (await site.db.select().from(alerts)) as [typeof alerts.$inferSelect];
  await fill('scratch', 0.5);
  await tell(at('02T21:00'));
  const until = at('20T00:00');
  await postpone(site.db, { key: decision, what: 'scratch', until, reason: 'A new disk comes.' }, by);
  await fill('scratch', 0.995);
  await tell(at('03T09:00'));
  expect(mail.mails).toHaveLength(2);
});

test('where no worker is left, that is told', async () => {
  await setRule(mailRule({ hour: 23 }));
  // Whatever the time is, the mail of the day is gone.
  await tell(new Date());
  mail.mails.length = 0;
  const worker = site.worker();
  await new Promise((resolve) => setTimeout(resolve, 500));
  await worker.stop();
  await tell(new Date(Date.now() + 60_000));
  expect(mail.mails).toEqual([]);
  // A worker that ended in order is no longer known: one that went silent is.
  await site.db.$pool.query(
    "INSERT INTO workers (name, machine, seen_at) VALUES ('gone', 'loft', UTC_TIMESTAMP(3) - INTERVAL 10 MINUTE)",
  );
  await tell(new Date());
  expect(subjects()).toEqual([expect.stringContaining('No worker has answered')]);
});

test('a server that refuses is tried again later and later, for two days; then it is given up, and the site says so', async () => {
  await setRule(mailRule({ alerts: false }));
  mail.faults.refuses = 'No room for mails';
  let now = at('02T07:00');
  await tell(now);
  const row = async () => (await site.db.select().from(messages).orderBy(desc(messages.id)))[0]!;
  expect(await row()).toMatchObject({ tries: 1, sentAt: null, trouble: expect.stringContaining('No room') as string });
  expect(await postTrouble(site.db, now)).toBeNull();
  const began = now.getTime();
  const tried: number[] = [];
  while ((await row()).gaveUpAt === null) {
    const { dueAt, tries } = await row();
    const refuse = () => Promise.reject(new Error('No room'));
    // Not a moment before.
    await sendDue(site.db, refuse, new Date(dueAt.getTime() - 1));
    expect((await row()).tries).toBe(tries);
    now = dueAt;
    expect(await sendDue(site.db, refuse, now)).toBe(0);
    tried.push((now.getTime() - began) / 60_000);
  }
  expect(tried).toEqual([1, 6, 21, 81, 261, 621, 1341, 2781]);
  expect(await postTrouble(site.db, now)).toContain('No room');
  expect(await postState(site.db)).toMatchObject({ gaveUp: 1, waiting: 0 });
  // One that arrives ends the trouble.
  mail.faults.refuses = null;
  await tell(at('06T08:00'));
  expect(mail.mails).toHaveLength(1);
  expect(await postTrouble(site.db, at('06T09:00'))).toBeNull();
});

test('what could not be sent is forgotten once nothing is sent that way, and nobody hears of it again', async () => {
  await setRule(mailRule({ alerts: false }));
  mail.faults.refuses = 'No room for mails';
  await tell(at('02T07:00'));
  expect(await postTrouble(site.db, at('02T09:00'))).toContain('No room');
  await setRule(postRule.parse({}));
  expect(await postTrouble(site.db, at('02T09:00'))).toBeNull();
  expect(await postState(site.db)).toMatchObject({ waiting: 0, gaveUp: 0, trouble: null });
});

test('a mail does not wait behind what is posted to somebody who does not answer', async () => {
  const of = (by: 'mail' | 'webhook', n: number) => ({
    by,
    kind: 'event' as const,
    about: `${by} ${n}`,
    subject: 'x',
    body: 'x',
  });
  const posted = Array.from({ length: 30 }, (_, n) => of('webhook', n));
  await putDown(site.db, [...posted, of('mail', 0)], at('02T07:00'));
  const tried: string[] = [];
  const deaf = async ({ by: how }: { by: string }) => {
    tried.push(how);
    if (how === 'webhook') throw new Error('Nobody answers');
  };
  expect(await sendDue(site.db, deaf, at('02T07:00'))).toBe(1);
  expect(tried[0]).toBe('mail');
});

test('two processes send a message once; one that died while sending leaves it to the next', async () => {
  const one = { by: 'mail' as const, kind: 'morning' as const, about: 'x', subject: 'x', body: 'x' };
  await putDown(site.db, [one, one], at('02T07:00'));
  let sent = 0;
  const slow = () => new Promise<void>((resolve) => setTimeout(() => resolve(void sent++), 100));
  await Promise.all([1, 2, 3].map(() => sendDue(site.db, slow, at('02T07:00'))));
  expect(sent).toBe(1);
  await putDown(site.db, [{ ...one, about: 'y' }], at('02T08:00'));
  // It dies: nothing is written down of it.
  await Promise.race([
    sendDue(site.db, () => new Promise(() => undefined), at('02T08:00')),
    new Promise((resolve) => setTimeout(resolve, 100)),
  ]);
  expect(await sendDue(site.db, slow, at('02T08:01'))).toBe(0);
  expect(await sendDue(site.db, slow, at('02T08:04'))).toBe(1);
});

test('every receipt is posted from when the house wants it, once and signed, whatever is answered before', async () => {
  const heard = await listener([500, 302]);
  try {
    const receipt = (title: string) =>
      inTransaction(site.db, (tx) =>
        writeReceipt(tx, {
          ...{ at: by.now, who: 'Mara', action: 'files moved', title, files: 2, bytes: 10, held: 0 },
          ...{ facts: {}, itemsSha256: itemsHash([]), projectId: null as ProjectId | null },
        }),
      );
    await receipt('before');
    await setRule(postRule.parse({ webhook: heard.url, hour: 23 }));
    await tell(at('02T09:00'));
    await receipt('after');
    await tell(at('02T09:01'));
    expect(heard.taken).toEqual([]);
    await tell(at('02T09:10'));
    await tell(at('02T09:20'));
    expect(heard.taken.map(({ body }) => (JSON.parse(body) as { title: string }).title)).toEqual(['after']);
    const [{ headers, body }] = heard.taken as [Taken];
    // As RFC 9421 has it, worked out here by hand.
    const digest = `sha-256=:${createHash('sha256').update(body).digest('base64')}:`;
    expect(headers['content-digest']).toBe(digest);
    const parameters = String(headers['signature-input']).replace(/^sig1=/, '');
    const base = `"@method": POST\n"@target-uri": ${heard.url}\n"content-digest": ${digest}\n"@signature-params": ${parameters}`;
    const signature = createHmac('sha256', secrets.webhookSecret).update(base).digest('base64');
    expect(headers.signature).toBe(`sig1=:${signature}:`);
    expect(String(headers['idempotency-key'])).toMatch(/^[-0-9a-z]+\.\d+$/);
  } finally {
    await heard.stop();
  }
});

test('without a secret nothing is signed, and the digest is there', () => {
  const headers = signed('https://house.example/hook', '{}', { secret: '', nowMs: 0 });
  expect(Object.keys(headers)).toEqual(['Content-Digest']);
});

test('a server that wants a name and a password gets them from the environment; the wrong ones are told', async () => {
  const strict = await startMailServer({ signIn: { user: 'keramion', password: 'sesame' } });
  try {
    await setRule(mailRule({ port: strict.port, user: 'keramion' }));
    await sendTest(site.db, 'mail', { ...by, secrets });
    expect(strict.mails[0]!.raw).toContain('Mara asked Keramion');
    const wrong = { ...secrets, mailPassword: 'wrong' };
    await expect(sendTest(site.db, 'mail', { ...by, secrets: wrong })).rejects.toThrow(/not known here|Invalid login/);
    // A server without STARTTLS is not sent to in the clear.
    await setRule(mailRule({ encryption: 'starttls' }));
    await expect(sendTest(site.db, 'mail', { ...by, secrets })).rejects.toThrow(/STARTTLS/i);
  } finally {
    await strict.stop();
  }
  // No secret lies in the catalogue.
  const kept =
    JSON.stringify(await site.db.select().from(siteTable)) + JSON.stringify(await site.db.select().from(receipts));
  expect(kept).not.toContain('sesame');
});

test('a name with line ends adds no line to the head of a mail', async () => {
  await setRule(mailRule({ alerts: false }));
  const subject = 'Fog\r\nBcc: thief@elsewhere.example';
  await putDown(site.db, [{ by: 'mail', kind: 'alert', about: 'z', subject, body: 'x' }], at('02T06:00'));
  await tell(at('02T06:00'));
  expect(mail.mails[0]!.to).toEqual(['media@house.example']);
  expect(mail.mails[0]!.raw).not.toMatch(/^Bcc:/m);
  expect((await postRuleOf(site.db)).hour).toBe(7);
});
