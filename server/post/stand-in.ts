// A mail server that stands where a house's own would: takes every mail on loopback and keeps it as it came. Ships with the product for
// the demo house and the tests; nothing that sends knows that it is none.
import { SMTPServer } from 'smtp-server';
import type { AddressInfo } from 'node:net';

export interface TakenMail {
  from: string;
  to: string[];
  /** As it came (RFC 5322). */
  raw: string;
}

export interface MailStandIn {
  port: number;
  mails: TakenMail[];
  /** Switched on and off while it runs. */
  faults: { refuses: string | null };
  stop(): Promise<void>;
}

/** @param signIn who may send; null: everybody */
export async function startMailServer({
  port = 0,
  signIn = null,
  taken,
}: {
  port?: number;
  signIn?: { user: string; password: string } | null;
  taken?: (mail: TakenMail) => void;
} = {}): Promise<MailStandIn> {
  const mails: TakenMail[] = [];
  const faults: MailStandIn['faults'] = { refuses: null };
  const server = new SMTPServer({
    ...{ authOptional: signIn === null, disabledCommands: ['STARTTLS'], allowInsecureAuth: true, logger: false },
    onAuth: (auth, _session, callback) =>
      auth.username === signIn?.user && auth.password === signIn?.password
        ? callback(null, { user: auth.username })
        : callback(new Error('That name and password are not known here.')),
    onData: (stream, session, callback) => {
      const chunks: Buffer[] = [];
      stream.on('data', (chunk: Buffer) => chunks.push(chunk));
      stream.on('end', () => {
        if (faults.refuses !== null) return callback(Object.assign(new Error(faults.refuses), { responseCode: 451 }));
        const { mailFrom, rcptTo } = session.envelope;
        const mail = {
          from: mailFrom === false ? '' : mailFrom.address,
          to: rcptTo.map((one) => one.address),
          raw: Buffer.concat(chunks).toString('utf8'),
        };
        mails.push(mail);
        taken?.(mail);
        callback(null);
      });
    },
  });
  server.on('error', () => undefined);
  await new Promise<void>((resolve) => server.listen(port, '127.0.0.1', resolve));
  return {
    port: (server.server.address() as AddressInfo).port,
    ...{ mails, faults },
    stop: () => new Promise((resolve) => server.close(() => resolve())),
  };
}
