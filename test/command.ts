// The command as somebody types it, on a test's own site: gives what it printed.
import { program } from '../cli/keramion.ts';
import type { TestSite } from './site.ts';

export async function typed(site: TestSite, ...args: string[]): Promise<string> {
  const lines: string[] = [];
  await program(
    () => site.db,
    (text) => lines.push(text),
  ).parseAsync(['node', 'keramion', ...args]);
  // Between a number and its unit stands a space that does not break.
  return lines.join('\n').replace(/\u00a0/g, ' ');
}
