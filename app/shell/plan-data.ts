export { loader, action } from './plan-data.server.ts';
