// A new copy instead of each damaged one: on a carrier that is named, or on the one that suits best.
import type { Command } from 'commander';
import { listed, size } from '#core/wording/amounts.ts';
import { carrierRows } from '#server/archives/shelf.ts';
import type { Database } from '#server/db/connect.ts';
import { Refused } from '#server/runtime/refused.ts';
import { addCopy, repairable } from '#server/steps/copy-archive.ts';
import { named, sealedNamed } from './names.ts';
import type { Out } from './shaping.ts';

export function addRepairCommand(command: Command, open: () => Database, out: Out): void {
  command
    .command('repair')
    .description(
      'adds a new copy instead of each damaged one of an archive to the plan, from copies that are good; the damaged one stays where it is',
    )
    .argument('<archive>', 'its folder on the carriers')
    .option('--to <carrier>', 'a carrier; left out, the one that suits best')
    .option('--json', 'as JSON')
    .action((folder: string, { to, json }: { to?: string; json?: boolean }) =>
      repair(open(), out, { folder, to, json }),
    );
}

interface RepairAsked {
  folder: string;
  to?: string;
  json?: boolean;
}

async function repair(db: Database, out: Out, { folder, to, json }: RepairAsked): Promise<void> {
  const one = await sealedNamed(db, folder);
  const damaged = await repairable(db, one.archiveId);
  if (damaged.length === 0) throw new Refused(`No copy of ${one.folder} is damaged. Nothing was added.`);
  const all = await carrierRows(db);
  const added: { instead: string; to: string; bytes: number }[] = [];
  for (const { copyId, carriers, to: best } of damaged.slice(0, to === undefined ? undefined : 1)) {
    const target = to === undefined ? all.find((row) => row.carrierId === best) : named('carrier', all, to);
    if (!target)
      throw new Refused(
        `No carrier in reach has room for a copy of ${one.folder}. Nothing was added; connect or register one.`,
      );
    const own = { archiveId: one.archiveId, carrierIds: [target.carrierId], instead: copyId, now: new Date() };
    const { bytes } = await addCopy(db, own);
    added.push({ instead: listed(carriers), to: target.name, bytes });
  }
  if (json) return out(JSON.stringify(added, null, 2));
  for (const { instead, to: name, bytes } of added)
    out(
      `Added a copy of ${size(bytes)} on ${name} instead of the damaged one on ${instead} to the plan. Nothing is written before the plan is run.`,
    );
}
