// Commands about how long archives are kept, legal holds, and letting one go.
import { startOfDay } from '#core/house-time.ts';
import type { Command } from 'commander';
import type { ArchiveId } from '#core/model.ts';
import { listed } from '#core/wording/amounts.ts';
import { letGo, setHold, setKeeping } from '#server/archives/keeping.ts';
import type { Database } from '#server/db/connect.ts';
import { Refused } from '#server/runtime/refused.ts';
import { sealedNamed } from './names.ts';
import type { Out } from './shaping.ts';

const by = () => ({ who: process.env.USER ?? 'the command line', now: new Date() });

export function addKeepingCommands(command: Command, open: () => Database, out: Out): void {
  command
    .command('keep')
    .description('says how long a sealed archive is kept')
    .argument('<archive>', 'its folder on the carriers')
    .option('--until <day>', 'as YYYY-MM-DD')
    .option('--for-ever', 'for ever')
    .option('--ask', 'until somebody decides')
    .action(async (folder: string, asked: { until?: string; forEver?: boolean; ask?: boolean }) => {
      const db = open();
      const archiveId = (await sealedNamed(db, folder)).archiveId as ArchiveId;
      if ([asked.until, asked.forEver, asked.ask].filter(Boolean).length !== 1)
        throw new Refused('Say one of --until DAY, --for-ever and --ask. Nothing was changed.');
      const rule = asked.until ? ('until' as const) : asked.forEver ? ('for ever' as const) : ('ask' as const);
      const until = asked.until === undefined ? null : dayIn(asked.until);
      out(`${await setKeeping(db, archiveId, { rule, until }, by())}.`);
    });
  command
    .command('hold')
    .description('puts a sealed archive under legal hold, or lifts it')
    .argument('<archive>', 'its folder on the carriers')
    .option('--reason <reason>', 'why')
    .option('--lift', 'lifts it')
    .action(async (folder: string, { reason, lift }: { reason?: string; lift?: boolean }) => {
      const db = open();
      const archiveId = (await sealedNamed(db, folder)).archiveId as ArchiveId;
      if ((reason === undefined) !== (lift === true))
        throw new Refused('Say either --reason or --lift. Nothing was changed.');
      out(`${await setHold(db, archiveId, lift ? null : reason!, by())}.`);
    });
  command
    .command('let-go')
    .description('lets a sealed archive go: nothing is erased, and what lies on its carriers may be wiped')
    .argument('<archive>', 'its folder on the carriers')
    .requiredOption('--typed <folder>', 'its folder once more')
    .action(async (folder: string, { typed }: { typed: string }) => {
      const db = open();
      const archiveId = (await sealedNamed(db, folder)).archiveId as ArchiveId;
      const { name, carriers } = await letGo(db, archiveId, typed, by());
      out(`${name} is let go.${carriers.length > 0 ? ` What lies on ${listed(carriers)} may be wiped.` : ''}`);
    });
}

function dayIn(text: string): Date {
  const at = startOfDay(text);
  if (!/^\d{4}-\d{2}-\d{2}$/.test(text) || Number.isNaN(at.getTime()))
    throw new Refused(`“${text}” is no day. Give it as YYYY-MM-DD. Nothing was changed.`);
  return at;
}
