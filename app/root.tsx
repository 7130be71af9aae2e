// The document around everything: fonts, colours, the theme before the first paint.
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
import { themeOf } from './person.server';

export async function loader({ request }: Route.LoaderArgs) {
  return { theme: await themeOf(request) };
}

export const meta: Route.MetaFunction = () => [{ title: 'Keramion' }];

const FOLLOW_SYSTEM =
  "document.documentElement.dataset.theme=matchMedia('(prefers-color-scheme: dark)').matches?'dark':'light'";

export function Layout({ children }: { children: React.ReactNode }) {
  const theme = useRouteLoaderData<typeof loader>('root')?.theme ?? 'system';
  return (
    <html lang="en" data-theme={theme === 'system' ? undefined : theme} suppressHydrationWarning>
      <head>
        <meta charSet="utf-8" />
        <meta name="viewport" content="width=device-width, initial-scale=1" />
        <link rel="icon" href="/favicon.svg" type="image/svg+xml" />
        {theme === 'system' && <script dangerouslySetInnerHTML={{ __html: FOLLOW_SYSTEM }} />}
        <Meta />
        <Links />
      </head>
      <body>
        {children}
        <ScrollRestoration />
        <Scripts />
      </body>
    </html>
  );
}

export default function App() {
  return <Outlet />;
}

export function ErrorBoundary() {
  const error = useRouteError();
  const known = isRouteErrorResponse(error);
  return (
    <main className="mx-auto mt-24 max-w-xl p-6">
      <h1 className="sentence">{known ? String(error.data) : 'This page could not be made.'}</h1>
      <p className="mt-3 text-ink-2">
        Nothing was changed.{' '}
        {known
          ? ''
          : 'The database may not be answering. Try again in a moment; if it stays, look at the words of the start command. '}
      </p>
      <p className="mt-4">
        <a className="text-accent underline" href="/">
          Back to the site
        </a>
      </p>
    </main>
  );
}
