export { loader } from './places-data.server.ts';
