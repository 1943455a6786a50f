import { Aside } from '../aside'
import { Credential, CredentialDraft, CredentialPlaces } from '../credential'
import { Destination, DestinationCheck, DestinationDraft } from '../destination'
import { CheckStep } from '../failure'

import { Begun, list, type Route } from './route'

/** Destinations and credentials. */
export const destinationsRoutes = {
  listDestinations: {
    method: 'GET',
    path: '/api/destinations',
    role: 'viewer',
    group: 'Destinations',
    summary: 'All destinations',
    answer: list(Destination),
  },
  addDestination: {
    method: 'POST',
    path: '/api/destinations',
    role: 'engineer',
    group: 'Destinations',
    summary: 'Add a destination',
    body: DestinationDraft,
    answer: Destination,
  },
  changeDestination: {
    method: 'PUT',
    path: '/api/destinations/:id',
    role: 'engineer',
    group: 'Destinations',
    summary: 'Change a destination',
    query: Begun,
    body: DestinationDraft,
    answer: Destination,
  },
  removeDestination: {
    method: 'DELETE',
    path: '/api/destinations/:id',
    role: 'engineer',
    group: 'Destinations',
    summary: 'Remove one without publications',
    answer: null,
  },
  listAsides: {
    method: 'GET',
    path: '/api/destinations/:id/asides',
    role: 'viewer',
    group: 'Destinations',
    summary: 'Messages that it would not have, with reason and octets, the newest first',
    answer: list(Aside),
  },
  removeAsides: {
    method: 'DELETE',
    path: '/api/destinations/:id/asides',
    role: 'engineer',
    group: 'Destinations',
    summary: 'Forget messages that went aside; their verdict stays',
    answer: null,
  },
  checkDestination: {
    method: 'POST',
    path: '/api/destinations/check',
    role: 'engineer',
    group: 'Destinations',
    summary: 'Check a connection step by step; sends and saves nothing',
    body: DestinationCheck,
    answer: CheckStep,
    stream: 'ndjson',
  },
  listCredentials: {
    method: 'GET',
    path: '/api/credentials',
    role: 'engineer',
    group: 'Credentials',
    summary: 'Certificates and log-ins, without what is secret',
    answer: list(Credential),
  },
  addCredential: {
    method: 'POST',
    path: '/api/credentials',
    role: 'administrator',
    group: 'Credentials',
    summary: 'Add a certificate, an authority or a log-in',
    body: CredentialDraft,
    answer: Credential,
  },
  bindCredential: {
    method: 'PUT',
    path: '/api/credentials/:id/places',
    role: 'administrator',
    group: 'Credentials',
    summary: 'Say where a log-in may be sent by engineers',
    body: CredentialPlaces,
    answer: Credential,
  },
  removeCredential: {
    method: 'DELETE',
    path: '/api/credentials/:id',
    role: 'administrator',
    group: 'Credentials',
    summary: 'Remove one that nothing uses',
    answer: null,
  },
} as const satisfies Record<string, Route>
