// Who is at the screen and how they like it, from two cookies. There are no accounts: a name is what a person says it is.
import { createCookie } from 'react-router';

const YEAR = 365 * 86_400;
const options = { path: '/', sameSite: 'lax', httpOnly: true, maxAge: YEAR } as const;
export const nameCookie = createCookie('keramion-name', options);
export const themeCookie = createCookie('keramion-theme', options);

export type Theme = 'system' | 'light' | 'dark';
const NOBODY = 'media manager';

export async function personOf(request: Request): Promise<string> {
  const name: unknown = await nameCookie.parse(request.headers.get('Cookie')).catch(() => null);
  return typeof name === 'string' && name !== '' ? name.slice(0, 60) : NOBODY;
}

export async function themeOf(request: Request): Promise<Theme> {
  const theme: unknown = await themeCookie.parse(request.headers.get('Cookie')).catch(() => null);
  return theme === 'light' || theme === 'dark' ? theme : 'system';
}
