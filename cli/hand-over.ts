// The command that hands over: what somebody else needs of a project, on a volume. It adds to the same plan as the interface.
import type { Command } from 'commander';
import { USUAL_HAND_OVER } from '#core/archive/selection.ts';
import type { Database } from '#server/db/connect.ts';
import { Refused } from '#server/runtime/refused.ts';
import { rackVolumes } from '#server/site/rack.ts';
import { addHandOver } from '#server/steps/hand-over.ts';
import { named } from './names.ts';
import { type Out, shaped, type ShapeOptions, tellJson, tellSelection, withShape } from './shaping.ts';

interface HandOverOptions extends ShapeOptions {
  to?: string;
  on?: string;
  point?: boolean;
}

export function addHandOverCommands(command: Command, open: () => Database, out: Out): void {
  withShape(
    command
      .command('handover')
      .description('what somebody would get of a project; with --to and --on it is added to the plan')
      .argument('<project>', 'its name')
      .option('--to <name>', 'who gets it')
      .option('--on <volume>', 'the volume it is written to')
      .option('--point', "the project's documents get a new version that names what is handed over"),
    USUAL_HAND_OVER,
  ).action((project: string, asked: HandOverOptions) => handOver(open(), out, { project, ...asked }));
}

async function handOver(db: Database, out: Out, asked: HandOverOptions & { project: string }): Promise<void> {
  const { projectId, name, scope, selection, folder, seconds } = await shaped(db, asked, USUAL_HAND_OVER);
  const volume = asked.on === undefined ? null : named('volume', await rackVolumes(db), asked.on);
  if ((asked.to === undefined) !== (volume === null))
    throw new Refused('Who gets it (--to) and on which volume (--on) are said together. Nothing was added.');
  const added =
    volume && !asked.dryRun
      ? await addHandOver(db, {
          ...{ projectId, volumeId: volume.volumeId, folder, toWhom: asked.to!, scope },
          ...{ points: asked.point ?? false, now: new Date() },
        })
      : null;
  if (asked.json) return tellJson(out, { project: name, folder, scope, selection, seconds, added });
  tellSelection(out, name, { selection, seconds });
  out(
    added
      ? `Added to the plan for ${asked.to} as ${folder} on ${volume!.name}. Nothing is written before the plan is run.`
      : 'Nothing was added to the plan.',
  );
}
