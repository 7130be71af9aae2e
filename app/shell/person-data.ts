export { action } from './person-data.server.ts';
