// What the stand-ins for outside devices share: a small web server on loopback, with faults that can be switched on. They
// stand where a tape library or a remote store would; nothing else in the product knows that they are none.
import { createServer, type IncomingMessage, type ServerResponse } from 'node:http';
import type { AddressInfo } from 'node:net';
import { setTimeout as sleep } from 'node:timers/promises';

export interface StandIn<Faults extends object> {
  address: string;
  /** Switched on and off while it runs. */
  faults: Faults;
  stop(): Promise<void>;
}

/** Faults that every one of them can have. */
export interface CommonFaults {
  /** It answers nobody. */
  away: boolean;
  /** It answers so many calls, and then nobody. */
  awayAfter: number | null;
  /** Every answer waits so long. */
  slowMs: number;
  /** Nothing more can be written. */
  full: boolean;
}

export type Answer = (request: IncomingMessage, response: ServerResponse) => Promise<void>;

/** Starts one on a free port, or on the one that is given. `/-/faults` switches faults from outside. */
export async function startStandIn<Faults extends CommonFaults>(
  faults: Faults,
  answer: Answer,
  port = 0,
): Promise<StandIn<Faults>> {
  const handle: Answer = async (request, response) => {
    if (request.url === '/-/faults') {
      Object.assign(faults, JSON.parse((await bodyOf(request)).toString('utf8')));
      response.end(JSON.stringify(faults));
      return;
    }
    if (faults.slowMs > 0) await sleep(faults.slowMs);
    if (faults.away || (faults.awayAfter !== null && faults.awayAfter-- <= 0)) {
      request.socket.destroy();
      return;
    }
    await answer(request, response);
  };
  const server = createServer((request, response) => {
    handle(request, response).catch((error: unknown) => {
      if (response.headersSent) return void response.destroy();
      response.writeHead(500).end(String(error));
    });
  });
  await new Promise<void>((resolve, reject) => {
    server.once('error', reject);
    server.listen(port, '127.0.0.1', resolve);
  });
  return {
    address: `http://127.0.0.1:${(server.address() as AddressInfo).port}`,
    faults,
    stop: () =>
      new Promise((resolve) => {
        server.close(() => resolve());
        server.closeAllConnections();
      }),
  };
}

export async function bodyOf(request: IncomingMessage): Promise<Buffer> {
  const chunks: Buffer[] = [];
  for await (const chunk of request as AsyncIterable<Buffer>) chunks.push(chunk);
  return Buffer.concat(chunks);
}
