export { loader } from './names-data.server.ts';
