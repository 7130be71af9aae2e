export { loader } from './search-data.server.ts';
