export { loader } from './viewing-data.server.ts';
