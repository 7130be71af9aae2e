export { loader } from './items-data.server.ts';
