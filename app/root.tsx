// The document around everything: fonts, colours, the theme before the first paint.
import { useEffect } from 'react';
import {
  isRouteErrorResponse,
  Links,
  Meta,
  Outlet,
  Scripts,
  ScrollRestoration,
  useRouteError,
  useRouteLoaderData,
} from 'react-router';
import type { Route } from './+types/root';
import './app.css';
import { houseZone, setHouseZone } from '#core/house-time.ts';
import { databaseAnswers, keepHouseTime } from './db.server';
import { themeOf } from './person.server';
import { factsOf } from './request-facts.server';
import { Tips } from './ui/tips';

/** What follows would wait for it. The stream of what is new goes on by itself once it answers again. */
export const middleware: Route.MiddlewareFunction[] = [
  async ({ request }, next) => {
    if (new URL(request.url).pathname === '/events') return next();
    if (!(await databaseAnswers())) throw new Response(DATABASE_AWAY, { status: 503 });
    await keepHouseTime();
    return next();
  },
];

export async function loader({ request, context }: Route.LoaderArgs) {
  return { theme: await themeOf(request), zone: houseZone(), ...factsOf(context) };
}

const DATABASE_AWAY = 'The database does not answer.';
const ASKS_AGAIN_MS = 3_000;

export const meta: Route.MetaFunction = () => [{ title: 'Keramion' }];

const FOLLOW_SYSTEM =
  "document.documentElement.dataset.theme=matchMedia('(prefers-color-scheme: dark)').matches?'dark':'light'";

export function Layout({ children }: { children: React.ReactNode }) {
  const root = useRouteLoaderData<typeof loader>('root');
  const theme = root?.theme ?? 'system';
  // Every time on the page is told by the clock of the house: said before any of it is drawn.
  if (root) setHouseZone(root.zone);
  // The browser hides the word from scripts once it has read it: what it then shows is not compared.
  const nonce = root?.nonce;
  // From now on what is pressed is heard: until then a page only shows.
  useEffect(() => {
    const { dataset } = document.documentElement;
    dataset.live = '';
    // A page that failed before it knew its own word could not say it sooner.
    dataset.theme ??= matchMedia('(prefers-color-scheme: dark)').matches ? 'dark' : 'light';
  }, []);
  // Machines turn dark in the evening, and what is open follows.
  useEffect(() => {
    if (root?.theme !== 'system') return undefined;
    const system = matchMedia('(prefers-color-scheme: dark)');
    const follow = () => void (document.documentElement.dataset.theme = system.matches ? 'dark' : 'light');
    system.addEventListener('change', follow);
    return () => system.removeEventListener('change', follow);
  }, [root?.theme]);
  return (
    <html lang="en" data-theme={theme === 'system' ? undefined : theme} suppressHydrationWarning>
      <head>
        <meta charSet="utf-8" />
        <meta name="viewport" content="width=device-width, initial-scale=1" />
        <link rel="icon" href="/favicon.svg" type="image/svg+xml" />
        {theme === 'system' && (
          <script nonce={nonce} suppressHydrationWarning dangerouslySetInnerHTML={{ __html: FOLLOW_SYSTEM }} />
        )}
        <Meta />
        <Links />
      </head>
      <body>
        {children}
        <ScrollRestoration nonce={nonce} />
        <Scripts nonce={nonce} />
      </body>
    </html>
  );
}

export default function App() {
  return (
    <>
      <Outlet />
      <Tips />
    </>
  );
}

export function ErrorBoundary() {
  const error = useRouteError();
  const number = useRouteLoaderData<typeof loader>('root')?.number;
  const known = isRouteErrorResponse(error);
  const isAway = known && error.status === 503 && error.data === DATABASE_AWAY;
  useEffect(() => {
    const again = isAway ? setTimeout(() => location.reload(), ASKS_AGAIN_MS) : undefined;
    return () => clearTimeout(again);
  }, [isAway]);
  const said = known ? String(error.data || (error.status === 404 ? 'There is nothing at this address.' : '')) : '';
  return (
    <main className="mx-auto mt-24 max-w-xl p-6">
      <h1 className="sentence">{said || 'This page could not be made.'}</h1>
      <p className="mt-3 text-ink-2">
        {isAway
          ? 'Nothing was changed by what was just asked, and nothing on the disks is touched while it is away. This page asks again every few seconds by itself. If it lasts, look whether MariaDB runs on the server, and whether its disk is full.'
          : known && error.status < 500
            ? 'Nothing was changed.'
            : 'Look whether what you asked for was done before you ask again.'}
      </p>
      {number && !isAway && !(known && error.status < 500) && (
        <p className="mt-2 text-ink-2">
          The log of the web process says why, under the number <b className="path">{number}</b>.
        </p>
      )}
      <p className="mt-4">
        <a className="text-accent underline" href="/">
          Back to the site
        </a>
      </p>
    </main>
  );
}
