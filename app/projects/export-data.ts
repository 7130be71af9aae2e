export { loader } from './export-data.server.ts';
