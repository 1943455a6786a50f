import { useState } from 'react'
import { toast } from 'sonner'
import type { OfferedEndpoint, ShownCertificate } from '~/contract/sources/opcua'
import { Button } from '~/ui/Button'
import { Fact, Heading, ProblemNote } from '~/ui/Notes'
import { call, refresh, useCall } from '../../app/api'
import { useMay } from '../../app/caller'
import { told } from '../../shared/problems'
import { useWork } from '../../shared/useWork'

const day = (text: string) => text.slice(0, 10)

/** Asks the server which ways in it has; one click takes mode and policy over. */
export function Offers({ endpoint, onTake }: { endpoint: string; onTake(o: OfferedEndpoint): void }) {
  const [offers, setOffers] = useState<OfferedEndpoint[] | null>(null)
  const { busy, problem, run } = useWork()
  const ask = () =>
    run(async () => {
      setOffers(null)
      setOffers(await call('discoverEndpoints', { body: { endpoint } }))
    })
  return (
    <div className="pb-1 pl-[142px]">
      <Button small busy={busy} onClick={() => void ask()}>
        Ask the server what it offers
      </Button>
      {problem && (
        <div className="mt-1">
          <ProblemNote problem={problem} />
        </div>
      )}
      {offers && (
        <ul className="mt-1 divide-y divide-line/70 rounded-sm border border-line bg-sheet" aria-label="Offered by the server">
          {offers.length === 0 && <li className="px-2 py-1 text-muted">It offers no endpoint over opc.tcp.</li>}
          {offers.map((o) => (
            <li key={`${o.mode} ${o.policy} ${o.url}`}>
              <button
                type="button"
                disabled={!o.known}
                onClick={() => onTake(o)}
                className="flex w-full items-baseline gap-2 px-2 py-1 text-left enabled:hover:bg-wash disabled:opacity-60"
              >
                <span className="font-mono text-[12.5px]">{o.mode === 'None' ? 'None' : `${o.mode}, ${o.policy}`}</span>
                {o.weak && <span className="text-xs font-semibold text-bad">{o.mode === 'None' ? 'no protection' : 'no longer safe'}</span>}
                {!o.known && <span className="text-xs text-muted">not spoken by Embrik</span>}
                <span className="ml-auto text-xs text-muted">{o.logins.join(', ')}</span>
              </button>
            </li>
          ))}
        </ul>
      )}
    </div>
  )
}

/** A server's certificate that nobody here has decided on yet, or that was refused: what it says of itself, and the decision. */
export function ServerCertificate({
  certificate,
  trusted,
  refused,
  onTrust,
  onRefuse,
}: {
  certificate: Pick<ShownCertificate, 'thumbprint' | 'sha256' | 'subject' | 'notBefore' | 'notAfter'>
  trusted: string
  refused: string
  onTrust(): void
  onRefuse(): void
}) {
  const known = trusted.toLowerCase() === certificate.sha256
  // Trusted long ago, when SHA-1 was what servers were known by.
  const old = trusted.toLowerCase() === certificate.thumbprint
  const no = [certificate.sha256, certificate.thumbprint].includes(refused.toLowerCase())
  return (
    <section aria-label="Certificate of the server" className="my-2 rounded-sm border border-line bg-sheet px-3 py-2">
      <div className="font-semibold">
        {known
          ? 'The server is trusted'
          : old
            ? 'The server is trusted by its SHA-1: trust it once more, by SHA-256'
            : no
              ? 'This server was refused'
              : trusted
                ? 'The server shows another certificate than before'
                : 'Seen for the first time'}
      </div>
      <Fact name="Subject">{certificate.subject}</Fact>
      <Fact name="Valid">
        {day(certificate.notBefore)} to {day(certificate.notAfter)}
      </Fact>
      <div className="py-1">
        <span className="text-muted">SHA-256</span>
        <code className="mt-0.5 block rounded-sm bg-well px-2 py-1 font-mono text-[12px] break-all select-all">{certificate.sha256}</code>
      </div>
      <div className="py-1">
        <span className="text-muted">SHA-1, as many servers show it</span>
        <code className="mt-0.5 block rounded-sm bg-well px-2 py-1 font-mono text-[12px] break-all select-all">{certificate.thumbprint}</code>
      </div>
      {!known && <p className="text-muted">Compare it with what the server shows of itself, at its own panel or by its engineer.</p>}
      <div className="mt-2 flex gap-2">
        {!known && (
          <Button small kind="main" onClick={onTrust}>
            Trust this server
          </Button>
        )}
        {!no && (
          <Button small onClick={onRefuse}>
            {known ? 'Trust it no more' : 'Refuse it'}
          </Button>
        )}
      </div>
    </section>
  )
}

/** Embrik's own certificate: shown, downloaded, renewed. */
export function OwnCertificate() {
  const application = useCall('application')
  const mayRenew = useMay('administrator')
  const [asking, setAsking] = useState(false)
  const { busy, run } = useWork(told)
  const a = application.data
  const renew = () =>
    run(async () => {
      if (!a) return
      await call('renewApplication', { body: { thumbprint: a.thumbprint } })
      await refresh('application', 'listCredentials')
      toast.success('Embrik has a new certificate', { description: 'OPC UA servers must trust it anew' })
      setAsking(false)
    })
  return (
    <>
      <Heading>Certificate of Embrik</Heading>
      {!a ? (
        <p className="text-muted">...</p>
      ) : (
        <>
          <p className="text-muted">The server must trust it once. Its thumbprint:</p>
          <code className="mt-1 block rounded-sm bg-well px-2 py-1 font-mono text-[12px] break-all text-ink select-all">{a.thumbprint}</code>
          <Fact name="Application URI">{a.uri}</Fact>
          <Fact name="Valid">
            {day(a.notBefore)} to {day(a.notAfter)}
          </Fact>
          <div className="mt-2 flex gap-2">
            <a
              className="inline-flex h-6 items-center rounded-sm border border-line bg-sheet px-2 text-xs hover:border-muted"
              download="embrik.pem"
              href={`data:application/x-pem-file;charset=utf-8,${encodeURIComponent(a.certificate)}`}
            >
              Download
            </a>
            <Button small disabled={!mayRenew} title={mayRenew ? '' : 'Needs the role administrator'} onClick={() => setAsking(true)}>
              Renew
            </Button>
          </div>
          {asking && (
            <div className="mt-2 rounded-sm border border-uncertain/60 px-3 py-2" role="alert">
              <p>Every OPC UA server refuses Embrik until somebody there trusts the new certificate. The old one is gone then.</p>
              <div className="mt-2 flex gap-2">
                <Button small kind="danger" busy={busy} onClick={() => void renew()}>
                  Renew it now
                </Button>
                <Button small onClick={() => setAsking(false)}>
                  Stay with the old one
                </Button>
              </div>
            </div>
          )}
        </>
      )}
    </>
  )
}
