// What an archive says of itself to whoever finds it without any software of ours: a plain text that tells how to check it,
// and a page that a browser opens from the disk, without scripts and without a network.
import { FAST_SUMS, MANIFEST } from '../fixity/bagit.ts';
import { folderOf } from '../paths.ts';
import { isOfBundle } from './selection.ts';
import { count, counted, size } from '../wording/amounts.ts';
import { escaped } from '../wording/escape.ts';

export interface LeafletFile {
  /** Path in the archive. */
  path: string;
  role: 'media' | 'part' | 'encoded' | 'document' | 'original document';
  sizeBytes: number;
  /** Where it was. */
  volume: string;
  original: string;
}

export interface Leaflet {
  project: string;
  client: string;
  year: number | null;
  people: string;
  comments: string;
  folder: string;
  /** ISO day on which writing began. */
  day: string;
  files: readonly LeafletFile[];
  /** What was to go in and could not. */
  gaps?: readonly { path: string; why: string }[];
  /** Fonts that lie nowhere in it, and plug-ins, that its documents name. */
  needs?: { fonts: readonly string[]; plugins: readonly string[] };
  /** Who gets it; null for an archive of the house. */
  handedTo?: string | null;
  /** Which of the parts this is, from 1, and the folders of all of them in order; left out where it is the only one. */
  number?: number;
  parts?: readonly string[];
  /** What belongs to it and lies in other folders: its other parts, or an earlier archive. */
  elsewhere?: readonly { folder: string; files: number; bytes: number }[];
}

const sum = (files: readonly LeafletFile[]) => files.reduce((bytes, file) => bytes + file.sizeBytes, 0);

export function readmeText(leaflet: Leaflet): string {
  const { project, folder, day, files, handedTo = null } = leaflet;
  const documents = files.filter((file) => file.role === 'document').map((file) => file.path);
  const bundle = documents.find(isOfBundle);
  const lines = [
    handedTo === null ? `Archive of ${project}` : `${project}, for ${handedTo}`,
    '',
    `Written on ${day} into ${folder}: ${counted(files.length, 'file')}, ${size(sum(files))}.`,
    ...aboutLines(leaflet),
    ...elsewhereLines(leaflet),
    '',
    'What lies where',
    '',
    '  data/               everything that belongs to it',
    handedTo === null
      ? '  data/documents/     the project documents; those that end in .original are as they were, byte for byte'
      : '  data/documents/     the project documents: open these',
    ...(bundle === undefined
      ? ['  data/media/         what their timelines use']
      : [
          `  ${folderOf(bundle)}/`,
          '                      a bundle (OpenTimelineIO): the newest document, content.otio, and all media; open it as one',
        ]),
    ...(files.some((file) => file.role === 'part')
      ? ['                      (a name that ends in _f and a number is a range of its file, from that frame on)']
      : []),
    ...(files.some((file) => file.role === 'encoded')
      ? [
          '                      (one more ending, .mkv or .mka, is a film or sound encoded anew without loss, as FFV1 and FLAC',
          '                      or PCM in Matroska; .mp4 or .m4a is a small viewing copy of the file before that ending)',
        ]
      : []),
    '  index.html          a list of all files, for any browser',
    ...(handedTo === null
      ? [
          '  keramion-archive.json   the same for programs: where every file was, its size and time, and how this was shaped',
          '  project.json        bins, clips, timelines and media of the documents, for programs',
        ]
      : ['  contents.json       the same for programs']),
    '  ascmhl/             a media hash list (ASC MHL) of everything in data',
    '',
    ...((leaflet.gaps ?? []).length > 0
      ? ['Could not go in', '', ...leaflet.gaps!.map(({ path, why }) => `  ${path}: ${why}`), '']
      : []),
    ...needsLines(leaflet),
    'Checking it',
    '',
    '  This folder is a bag (RFC 8493). In it, with tools that every system has:',
    '',
    `    sha512sum -c ${MANIFEST}`,
    `    xxhsum -c ${FAST_SUMS}   (quicker)`,
    '',
    '  Every line must say OK. tagmanifest-sha512.txt does the same for the lists themselves.',
    '',
    'Opening it',
    '',
    ...openingLines(leaflet, documents),
  ];
  return `${lines.join('\n')}\n`;
}

const openingLines = ({ handedTo = null, parts = [] }: Leaflet, documents: readonly string[]): string[] =>
  documents.length > 0
    ? [
        '  The documents name their media relative to themselves, so the folder may lie anywhere:',
        '',
        ...documents.map((path) => `    ${path}`),
        '',
        handedTo === null
          ? '  What stayed out of the archive is told as missing, by its own name.'
          : '  What could not be found is told as missing, by its own name.',
      ]
    : [
        parts.length > 1
          ? `  The documents lie in ${parts[0]}.`
          : '  It holds no document that could be written anew; those that are there are as they were.',
      ];

function needsLines({ needs = { fonts: [], plugins: [] } }: Leaflet): string[] {
  const lines = [
    ...needs.fonts.map((font) => `  the font ${font}`),
    ...needs.plugins.map((plugin) => `  the plug-in ${plugin}`),
  ];
  return lines.length > 0 ? ['What its documents need and it does not hold', '', ...lines, ''] : [];
}

function elsewhereLines({ number, parts = [], elsewhere = [] }: Leaflet): string[] {
  if (elsewhere.length === 0) return [];
  const [of, built] = [
    elsewhere.filter(({ folder }) => parts.includes(folder)),
    elsewhere.filter(({ folder }) => !parts.includes(folder)),
  ];
  const line = (one: { folder: string; files: number; bytes: number }) =>
    `  ${one.folder}: ${counted(one.files, 'file')}, ${size(one.bytes)}`;
  return [
    ...(of.length > 0 ? ['', `This is part ${number} of ${parts.length}. The others are`, '', ...of.map(line)] : []),
    ...(built.length > 0 ? ['', 'It builds on an earlier archive, which holds', '', ...built.map(line)] : []),
    '',
    'Each can be read and checked alone. To open the documents, put the data folders of all of them together into one.',
  ];
}

function aboutLines({ client, year, people, comments }: Leaflet): string[] {
  const lines: string[] = [];
  if (client !== '') lines.push(`For: ${client}`);
  if (year !== null) lines.push(`Year: ${year}`);
  const names = people.split('\n').filter((line) => line.trim() !== '');
  if (names.length > 0) lines.push('People:', ...names.map((line) => `  ${line}`));
  if (comments.trim() !== '') lines.push('', ...comments.trim().split('\n'));
  return lines.length > 0 ? ['', ...lines] : [];
}

/** A relative address of a path in the archive. */
const address = (path: string) => path.split('/').map(encodeURIComponent).join('/');

export function indexHtml(leaflet: Leaflet): string {
  const { project, folder, day, files, client, year, handedTo = null } = leaflet;
  const groups = new Map<string, LeafletFile[]>();
  for (const file of files) {
    const at = file.path.slice(0, Math.max(0, file.path.lastIndexOf('/')));
    groups.set(at, [...(groups.get(at) ?? []), file]);
  }
  const about = [client, year].filter(Boolean).join(', ');
  const rows = [...groups].map(
    ([at, own]) => `<section><h2>${escaped(at)}</h2><p>${counted(own.length, 'file')}, ${size(sum(own))}</p><table>
${own
  .map(
    (file) =>
      `<tr><td><a href="${escaped(address(file.path))}">${escaped(file.path.slice(at === '' ? 0 : at.length + 1))}</a></td><td>${size(file.sizeBytes)}</td>${handedTo === null ? `<td>${escaped(`${file.volume} / ${file.original}`)}</td>` : ''}</tr>`,
  )
  .join('\n')}
</table></section>`,
  );
  return `<!doctype html>
<html lang="en"><head><meta charset="utf-8"><meta name="viewport" content="width=device-width">
<title>${escaped(project)}</title>
<style>body{font:15px/1.5 sans-serif;margin:2rem auto;max-width:64rem;padding:0 1rem;color:#1c2422;background:#fff}h1{margin:0}h2{font-size:1rem;margin:1.5rem 0 0}p{margin:0;color:#55615e}table{border-collapse:collapse;width:100%}td{border-top:1px solid #d9dedc;padding:.2rem .8rem .2rem 0;vertical-align:top;overflow-wrap:anywhere}td:nth-child(2){text-align:right;white-space:nowrap}td:nth-child(3){color:#55615e}</style></head>
<body><h1>${escaped(project)}</h1>
<p>${about === '' ? '' : `${escaped(about)}. `}${handedTo === null ? 'Archived' : `For ${escaped(handedTo)}, written`} on ${escaped(day)} as ${escaped(folder)}: ${count(files.length)} files, ${size(sum(files))}. ${handedTo === null ? 'Size and former place of each' : 'Size of each'}; README.txt says how to check them.</p>
${escaped(elsewhereLines(leaflet).filter(Boolean).join(' ')) === '' ? '' : `<p>${escaped(elsewhereLines(leaflet).filter(Boolean).join(' '))}</p>\n`}${rows.join('\n')}
</body></html>
`;
}
