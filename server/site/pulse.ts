// What every open page has to know within a second or two: whether anybody works, and whether something changed that somebody else did.
import { sql } from 'drizzle-orm';
import type { Db } from '../db/connect.ts';
import { ALIVE } from '../stores/reach.ts';

export interface Pulse {
  /** Workers that gave a sign lately. */
  workers: number;
  /** The last sign of any; null where there never was one. */
  lastSeenMs: number | null;
  /** Another text once anything was written into the ledger or the plan. */
  mark: string;
}

export async function pulseOf(db: Db): Promise<Pulse> {
  const [rows] = (await db.execute(sql`
    SELECT (SELECT COUNT(*) FROM workers WHERE ${ALIVE}) AS alive, (SELECT TIMESTAMPDIFF(MICROSECOND, '1970-01-01', MAX(seen_at)) / 1000 FROM workers) AS seen,
      (SELECT COALESCE(MAX(id), 0) FROM receipts) AS receipt, (SELECT CONCAT(id, '.', version) FROM plans WHERE draft = 1) AS plan`)) as unknown as [
    { alive: number; seen: number | null; receipt: number; plan: string | null }[],
  ];
  const { alive, seen, receipt, plan } = rows[0]!;
  return {
    workers: Number(alive),
    lastSeenMs: seen === null ? null : Math.round(Number(seen)),
    mark: `${receipt} ${plan ?? ''}`,
  };
}
