/**
 * Imports run one way: core <- contract, disk <- server <- app, cli. The rooms are described in the README.
 * Tests may import anything; nothing imports a test.
 */
const room = (name, from, to, comment) => ({
  name,
  comment,
  severity: 'error',
  from: { path: from, pathNot: '\\.test\\.tsx?$' },
  to: { path: to },
});

module.exports = {
  forbidden: [
    {
      name: 'no-circles',
      severity: 'error',
      from: {},
      to: { circular: true },
    },
    { name: 'nothing-imports-a-test', severity: 'error', from: {}, to: { path: '\\.test\\.tsx?$' } },
    room('core-imports-nothing', '^core/', '^(app|bench|cli|contract|demo|disk|server|setup|test)/', 'core is pure'),
    {
      name: 'core-has-no-packages',
      severity: 'error',
      from: { path: '^core/', pathNot: '\\.test\\.ts$' },
      to: {
        dependencyTypes: ['core', 'npm', 'npm-dev'],
        pathNot: 'node_modules/(zod|jsonc-parser|fast-xml-parser|@date-fns/tz)/',
      },
    },
    room('contract-imports-core', '^contract/', '^(app|bench|cli|demo|disk|server|setup|test)/', 'schemas only'),
    room('disk-imports-core', '^disk/', '^(app|bench|cli|contract|demo|server|setup|test)/', 'disk knows no database'),
    room('server-below-app', '^server/', '^(app|bench|cli|demo|setup|test)/', 'services know no interface'),
    // Inside the server: db <- runtime <- stores, carriers <- readings, subjects <- steps <- plan, check <- worker.
    ...[
      ['db', 'runtime|stores|carriers|readings|SUBJECTS|steps|plan|check'],
      ['runtime', 'stores|readings|SUBJECTS|steps|plan|check'],
      ['stores|carriers', 'readings|steps|plan|check'],
      ['readings', 'reach|archives|reclaim|space|ledger|steps|plan|check'],
      ['SUBJECTS', 'steps|plan|check'],
      ['steps', 'plan|check'],
    ].map(([from, to]) => {
      const subjects = 'projects|reach|space|reclaim|archives|ledger|search|site|snapshots';
      return room(
        `server-${from.toLowerCase().replaceAll('|', '-')}-looks-down`,
        `^server/(${from.replace('SUBJECTS', subjects)})/`,
        `^server/(${to.replace('SUBJECTS', subjects)})/`,
        'rooms of the server import one way',
      );
    }),
    {
      name: 'files-in-few-rooms',
      comment: 'node:fs is met in disk, carriers, setup, and what makes sites for demo, tests and benchmarks',
      severity: 'error',
      from: {
        path: '^(app|cli|contract|core|server)/',
        pathNot: '(^server/carriers/|\\.test\\.tsx?$)',
      },
      to: { path: '^(node:)?fs(/promises)?$' },
    },
    room('cli-over-services', '^cli/', '^(app|bench|demo|setup|test)/', 'the command sits on the services'),
    room(
      'product-knows-no-demo',
      '^(app|cli|contract|core|disk|server)/',
      '^(demo|bench|test)/',
      'nothing knows the demo',
    ),
    {
      name: 'app-reaches-server-through-server-files',
      severity: 'error',
      from: { path: '^app/', pathNot: '(\\.server\\.tsx?|\\.test\\.tsx?)$' },
      to: { path: '^(server|disk)/', dependencyTypesNot: ['type-only'] },
    },
  ],
  options: {
    doNotFollow: { path: 'node_modules' },
    exclude: { path: '^(\\.react-router|build|var)/' },
    tsPreCompilationDeps: true,
    tsConfig: { fileName: 'tsconfig.json' },
    enhancedResolveOptions: {
      exportsFields: ['exports'],
      conditionNames: ['import', 'node', 'default', 'types'],
      extensions: ['.ts', '.tsx', '.mjs', '.js', '.json'],
    },
  },
};
