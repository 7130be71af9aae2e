// How a message leaves the house: a mail by the server that the house names, or a signed POST.
// Sources: RFC 9530 (Content-Digest), RFC 9421 (HTTP Message Signatures, hmac-sha256).
import { createHash, createHmac } from 'node:crypto';
import { createTransport } from 'nodemailer';
import type { Message, Send } from './outbox.ts';
import type { PostRule } from './post-rule.ts';

export interface Secrets {
  mailPassword: string;
  webhookSecret: string;
}

export const secretsIn = (env: NodeJS.ProcessEnv = process.env): Secrets => ({
  mailPassword: env.KERAMION_MAIL_PASSWORD ?? '',
  webhookSecret: env.KERAMION_WEBHOOK_SECRET ?? '',
});

const PATIENCE_MS = 10_000;
const USER_AGENT = 'Keramion';

/** @param mark of the site: with a message's number it says everywhere which message it is */
export function sender(rule: PostRule, { mark, secrets }: { mark: string; secrets: Secrets }): Send {
  return (message) =>
    message.by === 'mail' ? mail(rule, { message, mark, secrets }) : post(rule, { message, mark, secrets });
}

interface Sending {
  message: Message;
  mark: string;
  secrets: Secrets;
}

async function mail(rule: PostRule, { message, mark, secrets }: Sending): Promise<void> {
  if (rule.host === '') throw new Error('The house names no server for mails any more.');
  const transport = createTransport({
    host: rule.host,
    port: rule.port,
    secure: rule.encryption === 'tls',
    requireTLS: rule.encryption === 'starttls',
    ignoreTLS: rule.encryption === 'none',
    ...(rule.user === '' ? {} : { auth: { user: rule.user, pass: secrets.mailPassword } }),
    ...{ connectionTimeout: PATIENCE_MS, greetingTimeout: PATIENCE_MS, socketTimeout: 2 * PATIENCE_MS },
    // What a message says is text, never the name of something to be fetched.
    ...{ disableFileAccess: true, disableUrlAccess: true },
  });
  try {
    await transport.sendMail({
      from: rule.from,
      to: rule.to,
      subject: message.subject,
      text: message.body,
      date: message.madeAt,
      messageId: `<${mark}.${message.id}@keramion>`,
      // Programs that answer mails by themselves leave it alone (RFC 3834).
      headers: { 'Auto-Submitted': 'auto-generated' },
    });
  } finally {
    transport.close();
  }
}

async function post(rule: PostRule, { message, mark, secrets }: Sending): Promise<void> {
  if (rule.webhook === '') throw new Error('The house posts nothing any more.');
  const answer = await fetch(rule.webhook, {
    method: 'POST',
    headers: {
      'Content-Type': 'application/json',
      'User-Agent': USER_AGENT,
      'Idempotency-Key': `${mark}.${message.id}`,
      ...signed(rule.webhook, message.body, { secret: secrets.webhookSecret, nowMs: Date.now() }),
    },
    body: message.body,
    // Somewhere else is not where the house said.
    redirect: 'error',
    signal: AbortSignal.timeout(PATIENCE_MS),
  }).catch((error: unknown) => {
    const { cause, message: said } = error as Error & { cause?: Error };
    throw new Error(`It could not be posted: ${cause?.message ?? said}`, { cause: error });
  });
  await answer.body?.cancel();
  if (!answer.ok) throw new Error(`It was answered with ${answer.status} ${answer.statusText}.`.replace(' .', '.'));
}

/** The digest of a body, and a signature over it and where it goes; without a secret only the digest. */
export function signed(
  url: string,
  body: string,
  { secret, nowMs }: { secret: string; nowMs: number },
): Record<string, string> {
  const digest = `sha-256=:${createHash('sha256').update(body).digest('base64')}:`;
  if (secret === '') return { 'Content-Digest': digest };
  const parameters = `("@method" "@target-uri" "content-digest");created=${Math.floor(nowMs / 1000)};keyid="keramion";alg="hmac-sha256"`;
  const base = [
    '"@method": POST',
    `"@target-uri": ${new URL(url).href}`,
    `"content-digest": ${digest}`,
    `"@signature-params": ${parameters}`,
  ].join('\n');
  const signature = createHmac('sha256', secret).update(base).digest('base64');
  return { 'Content-Digest': digest, 'Signature-Input': `sig1=${parameters}`, Signature: `sig1=:${signature}:` };
}
