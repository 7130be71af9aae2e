// What the house wants to be told, how, and whom: off by itself. Kept by key with the site, changed in Settings with a receipt. What is secret
// comes from the environment of the processes that send, so that it lies in no catalogue and in no backup of it.
import { z } from 'zod';
import { eq } from 'drizzle-orm';
import { type Database, type Db, inTransaction } from '../db/connect.ts';
import { site } from '../db/schema/site.ts';
import { itemsHash, writeReceipt } from '../runtime/receipts.ts';
import { dropUnsent } from './outbox.ts';

export const ENCRYPTIONS = ['tls', 'starttls', 'none'] as const;

export const postRule = z.object({
  /** The server that takes mails; empty: none are sent. */
  host: z.string().max(255).default(''),
  port: z.number().int().min(1).max(65_535).default(587),
  encryption: z.enum(ENCRYPTIONS).default('starttls'),
  /** Who signs in there; empty: nobody. The password is KERAMION_MAIL_PASSWORD. */
  user: z.string().max(255).default(''),
  from: z.string().max(320).default(''),
  to: z.array(z.string().max(320)).max(20).default([]),
  /** The hour of the day after which the morning is told. */
  hour: z.number().int().min(0).max(23).default(7),
  /** Whether what cannot wait is told at once. */
  alerts: z.boolean().default(true),
  /** Where people open Keramion, for links. */
  address: z.string().max(500).default(''),
  /** Where every receipt, alert and morning is posted to; empty: nowhere. Signed with KERAMION_WEBHOOK_SECRET. */
  webhook: z.string().max(1000).default(''),
});
export type PostRule = z.infer<typeof postRule>;

const RULE = 'post';

export async function postRuleOf(db: Db): Promise<PostRule> {
  const [row] = await db.select().from(site).where(eq(site.key, RULE));
  const parsed = row ? postRule.safeParse(JSON.parse(row.value)) : null;
  return parsed?.success ? parsed.data : postRule.parse({});
}

export const sendsMail = (rule: PostRule): boolean => rule.host !== '' && rule.from !== '' && rule.to.length > 0;

export async function setPostRule(db: Database, rule: PostRule, { who, now }: { who: string; now: Date }) {
  await inTransaction(db, async (tx) => {
    const before = await postRuleOf(tx);
    const value = JSON.stringify(rule);
    await tx.insert(site).values({ key: RULE, value }).onDuplicateKeyUpdate({ set: { value } });
    if (!sendsMail(rule)) await dropUnsent(tx, 'mail');
    if (rule.webhook === '') await dropUnsent(tx, 'webhook');
    await writeReceipt(tx, {
      ...{ at: now, who, action: 'post changed', files: 0, bytes: 0, held: 0 },
      title: sendsMail(rule)
        ? `The morning is sent to ${rule.to.join(', ')}`
        : rule.webhook === ''
          ? 'Nothing is sent by itself'
          : 'Events are posted, no mail is sent',
      ...{ facts: { before, after: rule }, itemsSha256: itemsHash([]) },
    });
  });
}
