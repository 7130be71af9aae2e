export { action } from './work-data.server.ts';
