import { ownNames, refusalOf } from './origin.ts';

const LOOPBACK = ownNames('127.0.0.1', [], []);
const ask = (method: string, headers: Record<string, string>, names = LOOPBACK) =>
  refusalOf({ method, headers: { host: '127.0.0.1:4700', ...headers }, names });

test('forms from this very address are taken, others are refused with a sentence', () => {
  expect(ask('GET', {})).toBeNull();
  expect(ask('POST', { origin: 'http://127.0.0.1:4700' })).toBeNull();
  expect(ask('POST', { 'sec-fetch-site': 'same-origin' })).toBeNull();
  for (const headers of [
    {},
    { origin: 'http://elsewhere.example' },
    { origin: 'null' },
    { origin: 'http://127.0.0.1:9999' },
    { 'sec-fetch-site': 'cross-site', origin: 'http://127.0.0.1:4700' },
    { 'sec-fetch-site': 'same-site' },
  ])
    expect(ask('POST', headers as Record<string, string>)).toMatchObject({
      status: 403,
      sentence: expect.stringMatching(/refused\. Nothing was changed\.$/) as string,
    });
});

test('a foreign name for this machine is not answered, on loopback or open to the network', () => {
  expect(ask('GET', { host: 'rebound.example:4700' })).toMatchObject({ status: 403 });
  expect(ask('GET', { host: 'localhost:4700' })).toBeNull();
  expect(ask('GET', { host: '' })).toMatchObject({ status: 403 });
  const open = ownNames('0.0.0.0', ['store.example'], ['10.1.2.3', 'fe80::1', 'ropewalk']);
  for (const host of [
    'store.example',
    'STORE.example:4700',
    '10.1.2.3:4700',
    '[fe80::1]:4700',
    'ropewalk',
    'localhost',
  ])
    expect([host, ask('GET', { host }, open)]).toEqual([host, null]);
  // Pointed at this machine from outside, a page's own origin and host agree: only the list of names tells.
  const rebound = {
    host: 'rebound.example:4700',
    origin: 'http://rebound.example:4700',
    'sec-fetch-site': 'same-origin',
  };
  expect(ask('POST', rebound, open)).toMatchObject({ status: 403 });
  expect(ask('GET', { host: '10.1.2.4' }, open)).toMatchObject({ status: 403 });
});

test('what is too large, or does not say how large it is, is not read', () => {
  const own = { origin: 'http://127.0.0.1:4700' };
  expect(ask('POST', { ...own, 'content-length': '1000000' })).toBeNull();
  expect(ask('POST', { ...own, 'content-length': '1000001' })).toMatchObject({ status: 413 });
  expect(ask('POST', { ...own, 'transfer-encoding': 'chunked' })).toMatchObject({ status: 411 });
  expect(ask('POST', { ...own, 'content-length': '1e3' })).toMatchObject({ status: 411 });
});
