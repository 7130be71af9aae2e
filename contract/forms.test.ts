import { planForm, shelfForm, shapeArchiveForm, stageCachesForm } from './forms.ts';

const why = (
  schema: { safeParse(value: unknown): { success: boolean; error?: { issues: { message: string }[] } } },
  value: unknown,
) => {
  const parsed = schema.safeParse(value);
  return parsed.success ? null : parsed.error!.issues[0]!.message;
};

test('a form with nonsense says what is wrong', () => {
  expect(why(stageCachesForm, { intent: 'stage', folders: '', cutDay: '3' })).toBe(
    'Nothing is chosen. Choose at least one folder.',
  );
  expect(why(stageCachesForm, { intent: 'stage', folders: '1,x', cutDay: '3' })).toContain('could not be understood');
  expect(why(stageCachesForm, { intent: 'stage', folders: '1', cutDay: 'soon' })).toBe('The age is not a number.');
  expect(why(shapeArchiveForm, { intent: 'stage', carrierIds: 'a', folder: 'x' })).toBe(
    'The carriers could not be understood. Choose again.',
  );
  for (const scope of ['', '{', '[]', '{"parts":["all"],"versions":"all"}'])
    expect(why(shapeArchiveForm, { intent: 'keep shape', name: 'x', scope })).toContain('could not be understood');
  expect(why(planForm, { intent: 'launch' })).not.toBeNull();
});

test.each(['../../etc', '/etc', '..', '.hidden', 'a/../../b', '', ' ', 'a\0b', 'x'.repeat(300)])(
  '%j is no folder to write to',
  (folder) => {
    expect(why(shelfForm, { intent: 'restore', archiveId: '1', copyId: '1', volumeId: '1', folder })).not.toBeNull();
    expect(why(shapeArchiveForm, { intent: 'stage', carrierId: '1', folder })).not.toBeNull();
  },
);

test('what is right comes through, in the right types', () => {
  expect(
    shelfForm.parse({ intent: 'restore', archiveId: '1', copyId: '2', volumeId: '3', folder: ' back/fog ' }),
  ).toEqual({
    intent: 'restore',
    archiveId: 1,
    copyId: 2,
    volumeId: 3,
    folder: 'back/fog',
    only: null,
    handles: null,
    station: null,
  });
  const some = { intent: 'restore', archiveId: '1', copyId: '2', volumeId: '3', folder: 'back' };
  const only = { timelines: ['Reel 1'], bins: [], files: [7] };
  expect(shelfForm.parse({ ...some, only: JSON.stringify(only) })).toMatchObject({ only });
  for (const bad of ['{', '[]', '{"timelines": 3}', JSON.stringify({ ...only, files: [-1] })])
    expect(shelfForm.safeParse({ ...some, only: bad }).error?.issues[0]?.message).toBe(
      'What was chosen could not be understood.',
    );
  expect(stageCachesForm.parse({ intent: 'stage', folders: '1,2', cutDay: '20000' })).toEqual({
    intent: 'stage',
    folders: [1, 2],
    cutDay: 20000,
  });
});
