import { fontsWithout, maySayNeeds, needsOf } from './needs.ts';
import { readOtio } from './formats/otio.ts';

test('fonts and plug-ins are found wherever a document names them, each once', () => {
  const title = { metadata: { maker: { title: { font: 'Inter Bold', font_size: 40, Typeface: ' Lora ' } } } };
  const effect = { OTIO_SCHEMA: 'Effect.1', metadata: { plugin_name: 'Grain 2', 'plug-in': 'Grain 2', plugins: 'no' } };
  expect(needsOf({ a: [title, [title, { x: effect }]], fontification: 'no' })).toEqual({
    fonts: ['Inter Bold', 'Lora'],
    plugins: ['Grain 2'],
  });
  for (const nothing of [null, 3, 'font', [], { font: 3 }, { font: '' }, { font: 'x'.repeat(500) }])
    expect(needsOf(nothing)).toEqual({ fonts: [], plugins: [] });
  const many = Array.from({ length: 300 }, (_, i) => ({ font: `f${String(i).padStart(3, '0')}` }));
  expect(needsOf(many).fonts).toHaveLength(100);
  expect([maySayNeeds('{"font_name": 1}'), maySayNeeds('{"name": "font"}'), maySayNeeds('{"a": 1}')]).toEqual([
    true,
    true,
    false,
  ]);
});

test('a font is provided by the file that is called after it, or after its family', () => {
  const fonts = ['Inter Bold', 'Lora', 'Noto Sans'];
  expect(fontsWithout(fonts, ['Inter-Bold.otf', 'LORA.TTC', 'Noto.mov'])).toEqual(['Noto Sans']);
  expect(fontsWithout(fonts, ['inter.ttc', 'NotoSans-Regular.ttf'])).toEqual(['Lora']);
  expect(fontsWithout(fonts, ['.otf', 'readme.txt'])).toEqual(fonts);
});

test('a document says what it needs', () => {
  const document = (metadata: object) =>
    JSON.stringify({
      OTIO_SCHEMA: 'Timeline.1',
      ...{ name: 'Cut', metadata },
      tracks: { OTIO_SCHEMA: 'Stack.1', children: [] },
    });
  const needs = (metadata: object) => {
    const reading = readOtio(document(metadata));
    return reading.ok ? reading.document.needs : null;
  };
  expect(needs({ titles: [{ font_family: 'Inter' }] })).toEqual({ fonts: ['Inter'], plugins: [] });
  expect(needs({ titles: [] })).toBeUndefined();
});
