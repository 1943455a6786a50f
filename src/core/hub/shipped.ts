import { HubProfile } from '~/contract/hub-profile'

/** Profiles that come with Embrik: for the two hubs of the demo, and one to be filled from any hub's own documents. */
export const shippedProfiles: readonly HubProfile[] = [
  HubProfile.parse({
    name: 'Tarn, by token',
    about: 'Units log in with a token that a key seals. What is written beside a payload stands in the topic.',
    logInBy: 'token',
    user: '{identity}@{host}',
    token: {
      form: 'hmac',
      hash: 'SHA-256',
      keyAs: 'base64',
      signed: '{identity}|{host}|{ends}',
      encoding: 'base64',
      token: 'unit={identity|url}&until={ends}&seal={signature|url}',
      lifetimeS: 3600,
      marginS: 300,
    },
    topic: 'tarn/{unit}/out/{place}!{properties}',
    downFilter: 'tarn/{unit}/in/#',
    answerTopic: 'tarn/{unit}/a/{topic}',
    properties: 'topic',
    qosMost: '1',
    payloadOctets: 65_536,
    placeHeader: 'hub-path',
  }),
  HubProfile.parse({
    name: 'Fell, by certificate',
    about: 'Units log in with a certificate that is registered. Each stream of data has an alias that was declared.',
    logInBy: 'certificate',
    topic: 'fell/u/{unit}/e/{place}',
    downFilter: 'fell/u/{unit}/in/#',
    answerTopic: 'fell/u/{unit}/a/{topic}',
    properties: 'user',
    placeWord: 'alias',
    oneLevel: true,
    declared: true,
    qosMost: '1',
    payloadOctets: 65_536,
    placeHeader: 'hub-path',
  }),
  HubProfile.parse({ name: 'Another hub', logInBy: 'password', topic: '{unit}/{place}', readBack: 'none' }),
]
