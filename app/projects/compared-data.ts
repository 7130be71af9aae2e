export { loader } from './compared-data.server.ts';
