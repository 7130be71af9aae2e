export { loader } from './weight-data.server.ts';
