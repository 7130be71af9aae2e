export { loader } from './poster-data.server.ts';
