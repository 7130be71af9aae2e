export { loader } from './folders-data.server.ts';
