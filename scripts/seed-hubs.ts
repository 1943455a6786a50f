import type { Destination } from '~/contract/destination'
import { HubSettings } from '~/contract/destinations/hub'
import { flatJsonSettings } from '~/contract/shape'
import { certificateFacts } from '~/core/credential/certificate'
import { shippedProfiles } from '~/core/hub/shipped'
import { demoAlias, demoUnit, eventsReader, hubName, keptHub } from '~/standins/hub/kept'
import type { standinPorts } from '~/standins/ports'
import { addCredential, type NewCredential } from '~/store/credential'
import type { Db } from '~/store/database'
import { addDestination, changeDestination } from '~/store/destination'
import { freeze } from '~/store/freeze'
import { goLive } from '~/store/going-live'
import { addPublication } from '~/store/publication-edit'
import type { Vault } from '~/store/vault'

type Ports = ReturnType<typeof standinPorts>

const hubs = [
  { by: 'token', title: 'Tarn', profile: shippedProfiles[0]! },
  { by: 'certificate', title: 'Fell', profile: shippedProfiles[1]! },
] as const

const portsOf = (ports: Ports, by: 'token' | 'certificate') => ({
  port: by === 'token' ? ports.tarn : ports.fell,
  registryUrl: `http://127.0.0.1:${by === 'token' ? ports.tarnRegistry : ports.fellRegistry}`,
  eventsServers: `127.0.0.1:${by === 'token' ? ports.tarnEvents : ports.fellEvents}`,
})

/** Both cloud hubs: the kiln's zones go to the one, the kiln itself to the other. */
export async function seedHubs(db: Db, vault: Vault, ports: Ports, folder: string, kiln: string, zones: string[]): Promise<void> {
  for (const { by, title, profile } of hubs) {
    const { authority, units, kit } = await keptHub(folder, by)
    const keep = async (c: NewCredential) => (await addCredential(db, vault, c)).id
    const own = { name: `Embrik at the ${title} hub`, certificate: null, facts: null, user: null }
    const credentialId = await keep(
      kit
        ? { ...own, kind: 'certificate', certificate: kit.certificate, facts: await certificateFacts(kit.certificate), secret: kit.key }
        : { ...own, kind: 'token', user: profile.user, secret: units.find((u) => u.name === demoUnit)!.keys[0], recipe: profile.token },
    )
    const root = { name: `${title} root`, certificate: authority.certificate, facts: await certificateFacts(authority.certificate) }
    const authorityId = await keep({ ...root, kind: 'authority', user: null, secret: null })
    const { id: destinationId } = await addDestination(db, {
      name: `${title} hub`,
      kind: 'hub',
      enabled: true,
      settings: HubSettings.parse({
        ...{ host: '127.0.0.1', profile, authorityId, unit: demoUnit, credentialId, ...portsOf(ports, by) },
        ...{
          keepAliveS: 30,
          retryMs: 1000,
          window: 100,
          ackS: 20,
          witness: true,
          lateS: 30,
          outboxMb: 200,
          outboxHours: 0,
          drainPerS: 0,
          journalHours: 24,
          journalMb: 64,
        },
        ...{ eventsTopic: `${hubName(by)}-events`, eventsTls: true, eventsAuthorityId: authorityId, eventsMechanism: 'SCRAM-SHA-256' },
        witnessCredentialId: await keep({
          ...{ name: `Witness at the ${title} hub`, kind: 'password', certificate: null, facts: null },
          ...{ user: eventsReader.user, secret: eventsReader.password },
        }),
      }),
    })
    const made = await addPublication(db, {
      name: by === 'token' ? 'Zones, at the Tarn hub' : 'Kiln, at the Fell hub',
      equipmentIds: by === 'token' ? zones : [kiln],
      trigger: { kind: 'every', seconds: 10 },
      shape: flatJsonSettings,
      address: {
        ...{ kind: 'hub', topic: by === 'token' ? '{area}/{centre}/{unit}/state' : demoAlias, topicRule: 'slug' },
        ...{ headers: [], contentType: '', qos: 1 },
      },
      steersOnly: false,
      destinationId,
    })
    await goLive(db, made.id, 'Ines Rook', freeze)
  }
}

/** The ports moved: where the hubs are follows. */
export async function moveHub(db: Db, ports: Ports, d: Destination): Promise<void> {
  const hub = hubs.find(({ title }) => d.name === `${title} hub`)
  if (!hub || d.kind !== 'hub' || d.settings.host !== '127.0.0.1') return
  const there = portsOf(ports, hub.by)
  if (d.settings.port !== there.port) await changeDestination(db, d.id, { ...d, settings: { ...d.settings, ...there } })
}
