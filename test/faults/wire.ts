// The wire between one worker and its database, which can be cut at the n-th question: for a while nothing gets through,
// as when the database or its machine is started anew. Others reach the database as before.
import net from 'node:net';

const AWAY_MS = 2_500;

export class Wire {
  /** How many questions the worker asked. */
  questions = 0;
  isCut = false;
  private isAway = false;
  private timer: NodeJS.Timeout | undefined;
  private readonly sockets = new Set<net.Socket>();
  private constructor(
    private readonly target: URL,
    private readonly server: net.Server,
    /** At which question, and whether the database still hears it. */
    private readonly cut: { at: number; heard: boolean } | null,
  ) {}

  /** `fault`: `database:n:unasked` or `database:n:unanswered`; anything else lets all through. */
  static async open(url: string, fault = ''): Promise<Wire> {
    const [operation, n, way] = fault.split(':');
    const cut = operation === 'database' ? { at: Number(n), heard: way === 'unanswered' } : null;
    const server = net.createServer();
    const wire = new Wire(new URL(url), server, cut);
    server.on('connection', (socket) => wire.join(socket));
    await new Promise<void>((resolve) => server.listen(0, '127.0.0.1', resolve));
    return wire;
  }

  get url(): string {
    const url = new URL(this.target);
    url.hostname = '127.0.0.1';
    url.port = String((this.server.address() as net.AddressInfo).port);
    return url.href;
  }

  async close(): Promise<void> {
    clearTimeout(this.timer);
    for (const socket of this.sockets) socket.destroy();
    await new Promise((resolve) => this.server.close(resolve));
  }

  private join(client: net.Socket): void {
    if (this.isAway) return void client.destroy();
    const database = net.connect(Number(this.target.port), this.target.hostname);
    const both = [client, database];
    for (const socket of both) {
      this.sockets.add(socket);
      socket.on('error', () => socket.destroy());
      socket.on('close', () => {
        this.sockets.delete(socket);
        for (const other of both) other.destroy();
      });
    }
    let isDeaf = false;
    client.on('data', (chunk) => {
      const isTheOne = ++this.questions === this.cut?.at;
      if (!isTheOne) return void database.write(chunk);
      if (!this.cut?.heard) return this.goAway();
      // The database does what it was asked; its answer never comes.
      isDeaf = true;
      database.write(chunk);
    });
    database.on('data', (chunk) => (isDeaf ? this.goAway() : void client.write(chunk)));
  }

  private goAway(): void {
    this.isCut = this.isAway = true;
    for (const socket of this.sockets) socket.destroy();
    this.timer = setTimeout(() => (this.isAway = false), AWAY_MS);
  }
}
