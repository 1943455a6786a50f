import { z } from 'zod'
import { CheckStep } from '../failure-form'
import { paths } from '../paths'
import { RowPlace, RowsLook } from '../row-place'
import { BrowseNode, BrowseQuery, Source, SourceCheck, SourceDraft, SourceUse, WatchedValues, WatchNodes } from '../source'
import { RegisterLook, RegisterQuery } from '../sources/modbus'
import { Heard, ListenQuery } from '../sources/mqtt'
import { OfferedEndpoint, OpcUaEndpoint } from '../sources/opcua'
import { Begun, list, type Route } from './route'

/** Embrik's own certificate, as it shows it to OPC UA servers. */
export const ApplicationCertificate = z.object({
  thumbprint: z.string(),
  certificate: z.string().describe('PEM'),
  subject: z.string(),
  uri: z.string(),
  notBefore: z.string(),
  notAfter: z.string(),
})

/** Sources. */
export const sourcesRoutes = {
  listSources: { ...paths.listSources, role: 'viewer', group: 'Sources', summary: 'All sources', answer: list(Source) },
  addSource: { ...paths.addSource, role: 'engineer', group: 'Sources', summary: 'Add a source', body: SourceDraft, answer: Source },
  getSource: { ...paths.getSource, role: 'viewer', group: 'Sources', summary: 'One source', answer: Source },
  changeSource: {
    ...paths.changeSource,
    role: 'engineer',
    group: 'Sources',
    summary: 'Change a source',
    query: Begun,
    body: SourceDraft,
    answer: Source,
  },
  removeSource: {
    ...paths.removeSource,
    role: 'engineer',
    group: 'Sources',
    summary: 'Remove a source without tags',
    answer: null,
  },
  checkSource: {
    ...paths.checkSource,
    role: 'engineer',
    group: 'Sources',
    summary: 'Check a connection step by step; saves nothing',
    body: SourceCheck,
    answer: CheckStep,
    stream: 'ndjson',
  },
  lookAtRows: {
    ...paths.lookAtRows,
    role: 'viewer',
    group: 'Sources',
    summary: 'Which rows and columns a source of documents has, by its last answer',
    body: RowPlace,
    answer: RowsLook,
  },
  browseSource: {
    ...paths.browseSource,
    role: 'engineer',
    group: 'Sources',
    summary: 'What lies under a node',
    body: BrowseQuery,
    answer: list(BrowseNode),
  },
  watchNodes: {
    ...paths.watchNodes,
    role: 'engineer',
    group: 'Sources',
    summary: 'Values of nodes that are no tags yet, until the request ends',
    body: WatchNodes,
    answer: WatchedValues,
    stream: 'ndjson',
  },
  sourceUse: {
    ...paths.sourceUse,
    role: 'viewer',
    group: 'Sources',
    summary: 'What a source is used for',
    answer: SourceUse,
  },
  switchSource: {
    ...paths.switchSource,
    role: 'operator',
    group: 'Sources',
    summary: 'Start or stop one source',
    body: z.object({ enabled: z.boolean() }),
    answer: Source,
  },
  restartSource: {
    ...paths.restartSource,
    role: 'operator',
    group: 'Sources',
    summary: 'Connect one source anew',
    answer: null,
  },
  lookAtRegisters: {
    ...paths.lookAtRegisters,
    role: 'engineer',
    group: 'Sources',
    summary: 'Raw registers of a Modbus unit, about once a second until the request ends',
    body: RegisterQuery,
    answer: RegisterLook,
    stream: 'ndjson',
  },
  listenOnTopics: {
    ...paths.listenOnTopics,
    role: 'engineer',
    group: 'Sources',
    summary: 'Listen on topics for a while and tell what was heard',
    body: ListenQuery,
    answer: Heard,
    stream: 'ndjson',
  },
  discoverEndpoints: {
    ...paths.discoverEndpoints,
    role: 'engineer',
    group: 'Sources',
    summary: 'Which ways in an OPC UA server offers',
    body: z.object({ endpoint: OpcUaEndpoint }),
    answer: list(OfferedEndpoint),
  },
  renewApplication: {
    ...paths.renewApplication,
    role: 'administrator',
    group: 'Sources',
    summary: 'Make Embrik a new certificate; OPC UA servers must trust it anew',
    body: z.object({ thumbprint: z.string().describe('Of the one to be replaced: refused when it is another by now') }),
    answer: ApplicationCertificate,
  },
  application: {
    ...paths.application,
    role: 'viewer',
    group: 'Sources',
    summary: 'The certificate under which Embrik appears to OPC UA servers',
    answer: ApplicationCertificate,
  },
} as const satisfies Record<string, Route>
