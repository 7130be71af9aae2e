export { loader } from './events.server.ts';
