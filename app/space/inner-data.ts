// Asked again when the map changes: not with everything that happens elsewhere.
export const shouldRevalidate = () => false;
export { loader } from './inner-data.server.ts';
