// The floors of the house: each may import only what stands here.
const floor = (name, ...allowed) => ({
  name: `${name}-stays-on-its-floor`,
  severity: 'error',
  from: { path: `^src/${name}/`, pathNot: '\\.test\\.ts$' },
  to: { path: '^src/', pathNot: [`^src/${name}/`, ...allowed.map((a) => `^src/${a}/`)] },
})

module.exports = {
  forbidden: [
    { name: 'no-circles', severity: 'error', from: {}, to: { circular: true, viaOnly: { dependencyTypesNot: ['type-only'] } } },
    { name: 'nothing-lost', severity: 'error', from: { path: '^src' }, to: { couldNotResolve: true, pathNot: '^astro:' } },
    floor('core', 'contract'),
    floor('contract'),
    floor('store', 'contract', 'core'),
    floor('engine', 'contract', 'core', 'store'),
    floor('server', 'contract', 'core', 'store'),
    floor('pages', 'contract', 'core', 'store', 'server', 'views', 'ui'),
    floor('ui'),
    floor('views', 'contract', 'core', 'ui'),
    floor('standins', 'contract', 'core/value'),
    {
      name: 'core-computes-only',
      comment: 'No I/O, no database, no React in the core.',
      severity: 'error',
      from: { path: '^src/core/', pathNot: '\\.test\\.ts$' },
      to: { dependencyTypes: ['core'] },
    },
    {
      name: 'core-has-few-packages',
      severity: 'error',
      from: { path: '^src/core/', pathNot: '\\.test\\.ts$' },
      to: {
        path: '^node_modules/',
        pathNot: [
          '^node_modules/@peculiar/x509',
          '^node_modules/asn1js',
          '^node_modules/reflect-metadata',
          '^node_modules/jose',
          '^node_modules/croner',
          '^node_modules/protobufjs',
          '^node_modules/papaparse',
          '^node_modules/@marcbachmann/cel-js',
          '^node_modules/re2js',
          '^node_modules/js-quantities',
          '^node_modules/fflate',
          '^node_modules/saxen',
        ],
      },
    },
    {
      name: 'drivers-know-their-own-folder',
      comment:
        'A protocol touches its folder, the registry and its stand-in. A hub is made of two others: a broker to send to, a stream to read back.',
      severity: 'error',
      from: { path: '^src/engine/(sources|destinations)/([^/]+)/', pathNot: '^src/engine/destinations/hub/' },
      to: { path: '^src/engine/(sources|destinations)/([^/]+)/', pathNot: '^src/engine/$1/$2/' },
    },
  ],
  options: {
    tsConfig: { fileName: 'tsconfig.json' },
    tsPreCompilationDeps: true,
    doNotFollow: { path: 'node_modules' },
    enhancedResolveOptions: { exportsFields: ['exports'], conditionNames: ['import', 'node', 'default', 'types'] },
  },
}
