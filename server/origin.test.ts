import { refusalOf } from './origin.ts';

const ask = (method: string, headers: Record<string, string>, listensOn = '127.0.0.1') =>
  refusalOf({ method, headers: { host: '127.0.0.1:4700', ...headers }, listensOn });

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
    expect(ask('POST', headers as Record<string, string>)).toMatch(/refused\. Nothing was changed\.$/);
});

test('on loopback a foreign name for this machine is not answered', () => {
  expect(ask('GET', { host: 'rebound.example:4700' })).toContain('answers to localhost only');
  expect(ask('GET', { host: 'localhost:4700' })).toBeNull();
  expect(ask('GET', { host: 'store.example' }, '0.0.0.0')).toBeNull();
});
