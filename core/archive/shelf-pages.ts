// The shelf as pages that a browser opens from a folder, without a server, a network or any software of ours: what there is, on
// which carriers, and where each file lies; with a search over all names. Written by `keramion export-catalogue`.
import { count, counted, day, size } from '../wording/amounts.ts';
import { escaped } from '../wording/escape.ts';

export interface ShelfFile {
  id: number;
  /** Path in the archive. */
  at: string;
  bytes: number;
  /** Where it was. */
  volume: string;
  path: string;
  sha512: string | null;
}

export interface ShelfArchive {
  id: number;
  name: string;
  /** Its folder on the carriers. */
  folder: string;
  sealedMs: number | null;
  files: number;
  bytes: number;
  copies: readonly { carriers: readonly string[]; state: string; readBackMs: number | null }[];
  timelines: readonly { name: string; files: number; bytes: number }[];
  bins: readonly { name: string; files: number }[];
}

export interface ShelfCarrier {
  name: string;
  type: string;
  /** Its place, or who has it. */
  where: string;
  capacityBytes: number;
  usedBytes: number;
  holds: readonly string[];
}

const STYLE = `body{font:15px/1.5 system-ui,sans-serif;margin:2rem auto;max-width:70rem;padding:0 1rem;color:#1c2322;background:#f6f7f6}
h1{font-size:1.4rem}h2{font-size:1.05rem;margin-top:2rem}table{border-collapse:collapse;width:100%}th,td{text-align:left;padding:.25rem .75rem .25rem 0;border-bottom:1px solid #d7dcda;vertical-align:top}
th{font-weight:600}td.n,th.n{text-align:right;white-space:nowrap}code{font-size:.9em;word-break:break-all}input{font:inherit;padding:.35rem .5rem;width:24rem;max-width:100%}.q{color:#5c6663}`;

const page = (title: string, body: string): string =>
  `<!doctype html>\n<html lang="en"><head><meta charset="utf-8"><title>${escaped(title)}</title><style>${STYLE}</style></head><body>\n${body}\n</body></html>\n`;

const cell = (text: string, isNumber = false) => `<td${isNumber ? ' class="n"' : ''}>${text}</td>`;
const row = (cells: readonly string[]) => `<tr>${cells.join('')}</tr>`;
const head = (names: readonly string[], numbers: readonly string[] = []) =>
  row(names.map((name) => `<th${numbers.includes(name) ? ' class="n"' : ''}>${name}</th>`));

const readBack = (ms: number | null) => (ms === null ? 'never read back' : `read back ${day(ms)}`);
const copyWords = ({ carriers, state, readBackMs }: ShelfArchive['copies'][number]) =>
  `${escaped(carriers.join(' + '))} <span class="q">${escaped(state)}, ${readBack(readBackMs)}</span>`;

/** The name of an archive's page. */
export const pageOf = ({ id }: Pick<ShelfArchive, 'id'>): string => `archives/${id}.html`;

export function shelfIndex(shelf: {
  site: string;
  madeMs: number;
  archives: readonly ShelfArchive[];
  carriers: readonly ShelfCarrier[];
}): string {
  const { site, madeMs, archives, carriers } = shelf;
  const bytes = archives.reduce((sum, archive) => sum + archive.bytes, 0);
  return page(
    `The shelf of ${site}`,
    [
      `<h1>The shelf of ${escaped(site)}</h1>`,
      `<p>${counted(archives.length, 'archive')}, ${size(bytes)}, on ${counted(carriers.length, 'carrier')}, as known on ${day(madeMs)}. The same is in <a href="catalogue.json">catalogue.json</a>, <a href="archives.csv">archives.csv</a>, <a href="carriers.csv">carriers.csv</a> and <a href="files.csv">files.csv</a>.</p>`,
      '<p><label>Find a file by its name or former place<br><input id="find" type="search" autofocus></label></p>',
      '<p id="said" class="q" role="status"></p><table id="found"></table>',
      '<h2>Archives</h2><table>',
      head(['Archive', 'Sealed', 'Files', 'Size', 'Copies on'], ['Files', 'Size']),
      ...archives.map((archive) =>
        row([
          cell(`<a href="${pageOf(archive)}">${escaped(archive.name)}</a><br><code>${escaped(archive.folder)}</code>`),
          cell(archive.sealedMs === null ? '' : day(archive.sealedMs)),
          cell(count(archive.files), true),
          cell(size(archive.bytes), true),
          cell(archive.copies.map(copyWords).join('<br>')),
        ]),
      ),
      '</table><h2>Carriers</h2><table>',
      head(['Carrier', 'Where', 'Used', 'Of', 'Holds'], ['Used', 'Of']),
      ...carriers.map((carrier) =>
        row([
          cell(`${escaped(carrier.name)} <span class="q">${escaped(carrier.type)}</span>`),
          cell(escaped(carrier.where)),
          cell(size(carrier.usedBytes), true),
          cell(size(carrier.capacityBytes), true),
          cell(carrier.holds.map((folder) => `<code>${escaped(folder)}</code>`).join('<br>')),
        ]),
      ),
      `</table>${SEARCH}`,
    ].join('\n'),
  );
}

export function archivePage(archive: ShelfArchive, files: readonly ShelfFile[]): string {
  const portions = (title: string, rows: readonly { name: string; files: number }[]) =>
    rows.length === 0
      ? []
      : [
          `<h2>${title}</h2><table>${head(['Name', 'Files'], ['Files'])}`,
          ...rows.map((one) => row([cell(escaped(one.name)), cell(count(one.files), true)])),
          '</table>',
        ];
  return page(
    archive.name,
    [
      '<p><a href="../index.html">The shelf</a></p>',
      `<h1>${escaped(archive.name)}</h1>`,
      `<p><code>${escaped(archive.folder)}</code>, ${counted(archive.files, 'file')}, ${size(archive.bytes)}${archive.sealedMs === null ? '' : `, sealed on ${day(archive.sealedMs)}`}.</p>`,
      `<p>Copies: ${archive.copies.map(copyWords).join('; ') || 'none'}</p>`,
      ...portions('Timelines', archive.timelines),
      ...portions('Bins', archive.bins),
      `<h2>Files</h2><table>${head(['In the archive', 'Was at', 'Size'], ['Size'])}`,
      ...files.map((file) =>
        row([
          cell(`<code id="f${file.id}">${escaped(file.at)}</code>`),
          cell(`<span class="q">${escaped(file.volume)}</span> <code>${escaped(file.path)}</code>`),
          cell(size(file.bytes), true),
        ]),
      ),
      '</table>',
    ].join('\n'),
  );
}

/** One line for the script that holds all names: which archive, and of each file its number, place and former place. */
export const namesLine = (archive: Pick<ShelfArchive, 'id' | 'name'>, files: readonly ShelfFile[]): string =>
  // A browser takes a closing tag in a text for the end of the script, whatever is around it.
  `add(${archive.id},${scriptText(archive.name)},[${files.map((file) => `[${file.id},${scriptText(file.at)},${scriptText(`${file.volume}/${file.path}`)}]`).join(',')}]);\n`;

const scriptText = (text: string): string =>
  JSON.stringify(text).replace(
    /[<>\u2028\u2029]/g,
    (letter) => `\\u${letter.charCodeAt(0).toString(16).padStart(4, '0')}`,
  );

const SEARCH = `<script>
var all=[];function add(id,name,files){all.push([id,name,files])}
</script><script src="names.js"></script><script>
(function(){var field=document.getElementById('find'),table=document.getElementById('found'),said=document.getElementById('said');
function cell(row,text,href){var td=row.insertCell(),to=href?td.appendChild(document.createElement('a')):td;if(href)to.href=href;to.textContent=text}
field.addEventListener('input',function(){var words=field.value.toLowerCase().split(/\\s+/).filter(Boolean),n=0;table.textContent='';
if(words.length)for(var i=0;i<all.length&&n<200;i++)for(var j=0;j<all[i][2].length&&n<200;j++){var f=all[i][2][j],text=(f[1]+' '+f[2]).toLowerCase();
if(words.every(function(w){return text.indexOf(w)>=0})){n++;var row=table.insertRow();cell(row,f[1],'archives/'+all[i][0]+'.html#f'+f[0]);cell(row,all[i][1]);cell(row,f[2])}}
said.textContent=words.length===0?'':n===0?'Nothing has that in its name or former place.':n===200?'The first 200 of them.':n+' found.'})})();
</script>`;
