// What the web process knows of a request: its number in the log, and the word that lets our own scripts run.
import { createContext, type RouterContextProvider } from 'react-router';

export interface RequestFacts {
  nonce: string;
  number: string;
}

export const requestContext = createContext<RequestFacts>({ nonce: '', number: '' });

export const factsOf = (context: Readonly<RouterContextProvider>): RequestFacts => context.get(requestContext);
