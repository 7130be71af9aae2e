// The shelf of another catalogue, brought into one that is empty: all of an export, or nothing. What lies on the carriers is
// not looked at for it: whoever reaches them next does that, by their identities.
import { sql } from 'drizzle-orm';
import { counted } from '#core/wording/amounts.ts';
import { checkedLines, LineTooLong, textOf } from '#disk/checked-lines.ts';
import { codeOf } from '#disk/facts.ts';
import { carrierKindOf } from '../carriers/kinds.ts';
import { type Database, inTransaction, type Transaction } from '../db/connect.ts';
import { itemsHash, writeReceipt } from '../runtime/receipts.ts';
import { Refused } from '../runtime/refused.ts';
import { noteBins } from './contents.ts';
import { LIST, NAMED, rowSchema, secretsOf, SHELF_TABLES, shelfList, type ShelfTable } from './shelf-tables.ts';

export interface Imported {
  archives: number;
  carriers: number;
  files: number;
}

interface Asked {
  who: string;
  now: Date;
  /** Secret settings of carriers, which are in no export, by the carriers' names. */
  secrets: ReadonlyMap<string, string>;
}

const TOGETHER = 500;
const UNTOUCHED = 'Nothing was changed.';

/** @param at the folder of an export. Throws Refused in a sentence, and then nothing was changed. */
export async function importCatalogue(db: Database, at: string, asked: Asked): Promise<Imported> {
  const list = listOf(at);
  return inTransaction(db, async (tx) => {
    await refuseUnlessEmpty(tx);
    const rows = new Map<string, number>();
    for (const shelf of SHELF_TABLES) {
      const told = list.tables.find(({ name }) => name === shelf.name);
      if (!told && shelf.isLater) continue;
      if (!told) throw new Refused(`The export has no ${shelf.name}. ${UNTOUCHED}`);
      rows.set(shelf.name, await bring(tx, at, { shelf, told, secrets: asked.secrets }));
    }
    await refuseUnlessWhole(tx);
    await noteBins(tx);
    const imported = {
      ...{ archives: rows.get('archives')!, carriers: rows.get('carriers')!, files: rows.get('archive_files')! },
    };
    await writeReceipt(tx, {
      ...{ at: asked.now, who: asked.who, action: 'catalogue imported' },
      title: `The shelf of ${list.site}: ${counted(imported.archives, 'archive')} on ${counted(imported.carriers, 'carrier')}`,
      ...{ files: imported.files, bytes: 0, held: 0, facts: { madeAt: list.madeAt, ...imported } },
      itemsSha256: itemsHash(list.tables.map(({ name, sha256 }) => `${name}\t${sha256}`)),
    });
    return imported;
  });
}

function listOf(at: string) {
  let text: string;
  try {
    text = textOf(at, LIST);
  } catch (error) {
    throw new Refused(
      `${at} cannot be read as an export of the catalogue (${codeOf(error)} at ${LIST}). ${UNTOUCHED} Name the folder that export-catalogue made.`,
    );
  }
  let json: unknown;
  try {
    json = JSON.parse(text);
  } catch {
    throw new Refused(`${LIST} is damaged: it is no JSON. ${UNTOUCHED}`);
  }
  const parsed = shelfList.safeParse(json);
  if (!parsed.success) throw new Refused(`${LIST} is damaged, or of a form that is not known here. ${UNTOUCHED}`);
  return parsed.data;
}

/** Of an empty catalogue nothing can be mistaken for something of the export. */
async function refuseUnlessEmpty(tx: Transaction): Promise<void> {
  const here: string[] = [];
  for (const { name } of SHELF_TABLES) {
    const [rows] = (await tx.execute(sql.raw(`SELECT 1 FROM ${name} LIMIT 1 FOR UPDATE`))) as unknown as [unknown[]];
    if (rows.length > 0) here.push(name.replaceAll('_', ' '));
  }
  if (here.length > 0)
    throw new Refused(
      `An import is for an empty catalogue, and this one has ${here[0]} already. ${UNTOUCHED} Start one of its own with KERAMION_HOME in another folder; or take archives in from their carriers, which needs no export.`,
    );
}

interface Brought {
  shelf: ShelfTable;
  told: { name: string; rows: number; sha256: string };
  secrets: ReadonlyMap<string, string>;
}

async function bring(tx: Transaction, at: string, { shelf, told, secrets }: Brought): Promise<number> {
  const file = `tables/${shelf.name}.ndjson`;
  const schema = rowSchema(shelf);
  let rows: Record<string, unknown>[] = [];
  let count = 0;
  let sum = '';
  const flush = async () => {
    if (rows.length > 0) await tx.insert(shelf.table).values(rows);
    rows = [];
  };
  try {
    for await (const line of checkedLines(at, file, (sha256) => (sum = sha256))) {
      count++;
      const row = parsed(schema, line, `${file}, line ${count}`);
      rows.push(shelf.name === 'carriers' ? withSecrets(row, secrets) : row);
      if (rows.length === TOGETHER) await flush();
    }
    await flush();
  } catch (error) {
    if (error instanceof Refused) throw error;
    if (error instanceof LineTooLong) throw new Refused(`${error.message} ${UNTOUCHED}`);
    const code = (error as { cause?: { code?: string } }).cause?.code ?? codeOf(error);
    if (code === 'ER_DUP_ENTRY') throw new Refused(`${file} says something twice. ${UNTOUCHED}`);
    if (!/^E[A-Z]+$/.test(code)) throw error;
    throw new Refused(`${file} cannot be read (${code}). ${UNTOUCHED}`);
  }
  if (sum !== told.sha256 || count !== told.rows)
    throw new Refused(
      `${file} is not as it was exported: ${count === told.rows ? 'its checksum differs' : `it has ${counted(count, 'line')} of ${told.rows}`}. ${UNTOUCHED}`,
    );
  return count;
}

function parsed(schema: ReturnType<typeof rowSchema>, line: string, where: string): Record<string, unknown> {
  let json: unknown;
  try {
    json = JSON.parse(line);
  } catch {
    throw new Refused(`${where} is damaged: it is no JSON. ${UNTOUCHED}`);
  }
  const row = schema.safeParse(json);
  if (row.success) return row.data;
  const { path, message } = row.error.issues[0]!;
  throw new Refused(
    `${where} says something that does not fit (${path.join('.') || 'the whole'}: ${message}). ${UNTOUCHED}`,
  );
}

/** Throws Refused where a kind is unknown here, or a secret is missing. */
function withSecrets(row: Record<string, unknown>, secrets: ReadonlyMap<string, string>): Record<string, unknown> {
  const name = String(row.name);
  let wanted: string[];
  try {
    wanted = secretsOf(String(row.kind));
  } catch {
    throw new Refused(`${name} is a carrier of a kind that is not known here (${String(row.kind)}). ${UNTOUCHED}`);
  }
  const settings = { ...(row.settings as Record<string, unknown>) };
  for (const key of wanted) {
    const secret = secrets.get(name);
    if (secret === undefined)
      throw new Refused(
        `${name} needs its secret key, which no export holds. ${UNTOUCHED} Say it with --secret "${name}=…".`,
      );
    settings[key] = secret;
  }
  const fits = carrierKindOf(String(row.kind)).settings.safeParse(settings);
  if (!fits.success)
    throw new Refused(`What the export says of ${name} does not fit: ${fits.error.issues[0]!.message}. ${UNTOUCHED}`);
  return { ...row, settings };
}

async function refuseUnlessWhole(tx: Transaction): Promise<void> {
  for (const { from, column, to } of NAMED) {
    const [rows] = (await tx.execute(
      sql.raw(
        `SELECT x.${column} AS id FROM ${from} x LEFT JOIN ${to} t ON t.id = x.${column} WHERE x.${column} IS NOT NULL AND t.id IS NULL LIMIT 1`,
      ),
    )) as unknown as [{ id: number }[]];
    if (rows.length > 0)
      throw new Refused(
        `The export is not whole: ${from.replaceAll('_', ' ')} name one of ${to.replaceAll('_', ' ')} that it does not have. ${UNTOUCHED}`,
      );
  }
}
