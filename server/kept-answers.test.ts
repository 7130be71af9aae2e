// A page is made once for all who ask for the same, each with a word of its own; and never given once anything changed.
import type { AddressInfo } from 'node:net';
import type { Server } from 'node:http';
import { randomBytes } from 'node:crypto';
import express from 'express';
import { KeptAnswers } from './kept-answers.ts';

let server: Server;
let made: string[];
let filling: string;
let now: number;
let waits: Promise<unknown>;
let kept: KeptAnswers;
let asked: Promise<{ text(): Promise<string> }>[];

beforeEach(async () => {
  [made, now, waits, filling] = [[], 1_000_000, Promise.resolve(), ''];
  asked = [];
  kept = new KeptAnswers(
    (request, headers) => {
      const url = `http://127.0.0.1:${(server.address() as AddressInfo).port}${request.originalUrl}`;
      asked.push(fetch(url, { headers: { ...headers, cookie: '', accept: String(request.headers.accept) } }));
    },
    () => now,
  );
  const app = express();
  app.use((_request, response, next) => {
    response.locals.nonce = randomBytes(16).toString('base64');
    response.setHeader('X-Word', response.locals.nonce as string);
    next();
  });
  app.use(kept.handle);
  app.use((request, response) => {
    made.push(`${request.method} ${request.originalUrl}`);
    void waits.then(() => {
      if (request.path === '/stream') return void response.type('text/event-stream').write('data: here\n\n');
      response.status(request.path === '/gone' ? 404 : 200);
      if (request.path === '/named') response.setHeader('Set-Cookie', 'a=b');
      response.type(request.path === '/picture' ? 'image/png' : 'text/html');
      response.write(filling);
      response.write(`<p>${made.length} for ${request.headers.cookie || 'nobody'}</p>`);
      response.end(`<script nonce="${response.locals.nonce as string}"></script>`);
    });
  });
  server = app.listen(0, '127.0.0.1');
  await new Promise((resolve) => server.once('listening', resolve));
});
afterEach(async () => {
  server.closeAllConnections();
  await new Promise((resolve) => server.close(resolve));
});

async function ask(path: string, { cookie = '', method = 'GET' } = {}) {
  const url = `http://127.0.0.1:${(server.address() as AddressInfo).port}${path}`;
  const answer = await fetch(url, { method, headers: { cookie } });
  const text = await answer.text();
  return { text, word: answer.headers.get('x-word')!, type: answer.headers.get('content-type') };
}

test('the same is made once for two seconds, and each has a word of its own', async () => {
  const [first, second] = [await ask('/a'), await ask('/a')];
  expect(made).toEqual(['GET /a']);
  expect(second.type).toBe(first.type);
  expect(first.word).not.toBe(second.word);
  for (const { text, word } of [first, second])
    expect(text).toBe(`<p>1 for nobody</p><script nonce="${word}"></script>`);
  now += 4_000;
  expect((await ask('/a')).text).toContain('2 for nobody');
});

test('a little later it is given once more while it is made anew, for which nobody waits; and no stranger has that done', async () => {
  await ask('/a');
  now += 2_500;
  expect((await ask('/a')).text).toContain('1 for nobody');
  expect((await ask('/a')).text).toContain('for nobody');
  await (await asked[0]!).text();
  expect([asked.length, made.length]).toEqual([1, 2]);
  expect((await ask('/a')).text).toContain('2 for nobody');
  const url = `http://127.0.0.1:${(server.address() as AddressInfo).port}/a`;
  await (await fetch(url, { headers: { 'x-keramion-again': 'guessed', cookie: '' } })).text();
  expect(made).toHaveLength(2);
});

test('who asks while it is made waits for it', async () => {
  let go = () => {};
  waits = new Promise<void>((resolve) => (go = resolve));
  const all = [ask('/a'), ask('/a'), ask('/a')];
  while (made.length === 0) await new Promise((resolve) => setTimeout(resolve, 5));
  await new Promise((resolve) => setTimeout(resolve, 50));
  go();
  expect(new Set((await Promise.all(all)).map(({ text }) => text.split('<script')[0]))).toEqual(
    new Set(['<p>1 for nobody</p>']),
  );
  expect(made).toHaveLength(1);
});

test('what is told as it comes is told to everybody at once, however long the first listens', async () => {
  const url = `http://127.0.0.1:${(server.address() as AddressInfo).port}/stream`;
  const all = await Promise.all([fetch(url), fetch(url), fetch(url)]);
  for (const { body } of all) {
    const reader = body!.getReader();
    expect(Buffer.from((await reader.read()).value!).toString()).toBe('data: here\n\n');
    await reader.cancel();
  }
  expect(made).toHaveLength(3);
});

test('who asks for many large pages takes no more memory than there is for that', async () => {
  filling = 'x'.repeat(3_000_000);
  for (let i = 0; i < 25; i++) await ask(`/large?${i}`);
  made.length = 0;
  for (const i of [0, 24]) await ask(`/large?${i}`);
  expect(made).toEqual(['GET /large?24']);
});

test('another address, another person, and whatever is no page, is made for itself', async () => {
  for (const path of ['/a', '/a?b=1', '/picture', '/picture', '/gone', '/gone', '/named', '/named']) await ask(path);
  expect((await ask('/a', { cookie: 'name=Mara' })).text).toContain('for name=Mara');
  expect((await ask('/a', { cookie: 'name=Ida' })).text).toContain('for name=Ida');
  expect(made).toHaveLength(10);
});

test('once something was done or told, what was made before is given to nobody, nor what was being made then', async () => {
  await ask('/a');
  await ask('/a', { method: 'POST' });
  expect((await ask('/a')).text).toContain('3 for');
  kept.forget();
  expect((await ask('/a')).text).toContain('4 for');
  let go = () => {};
  waits = new Promise<void>((resolve) => (go = resolve));
  const before = ask('/b');
  while (made.length < 5) await new Promise((resolve) => setTimeout(resolve, 5));
  kept.forget();
  go();
  await before;
  await ask('/b');
  expect(made.filter((one) => one === 'GET /b')).toHaveLength(2);
});
