export { loader } from './list-data.server.ts';
