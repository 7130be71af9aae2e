// Where the browser's tests run.
import path from 'node:path';

export const HOME = path.resolve('var/e2e');
export const PORT = 4790;
