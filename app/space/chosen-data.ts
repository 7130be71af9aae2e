export { loader } from './chosen-data.server.ts';
