import { type Failure, FailureError } from '~/contract/failure'
import { wordsOf } from '../log'
import { portFailure } from './steps'

const certificate: Readonly<Record<string, [code: string, words: string, hint: string]>> = {
  CERT_HAS_EXPIRED: ['expired', 'its certificate has expired', 'Have it renewed there; check the clock here'],
  CERT_NOT_YET_VALID: ['not-yet', 'its certificate is not valid yet', 'Check the clocks of both sides'],
  ERR_TLS_CERT_ALTNAME_INVALID: ['name', 'its certificate is for another name', 'Use the name that stands in the certificate'],
  DEPTH_ZERO_SELF_SIGNED_CERT: ['authority', 'its certificate is signed by itself', 'Choose that certificate as trusted authority'],
  SELF_SIGNED_CERT_IN_CHAIN: ['authority', 'its authority is not trusted here', 'Choose its authority as trusted'],
  UNABLE_TO_VERIFY_LEAF_SIGNATURE: [
    'authority',
    'its authority is not trusted here',
    'Choose its authority as trusted; the server may not send its chain',
  ],
  CERT_SIGNATURE_FAILURE: ['authority', 'it is signed by another authority of the same name', 'Choose the authority that signed it'],
  UNABLE_TO_GET_ISSUER_CERT_LOCALLY: ['authority', 'its authority is not trusted here', 'Choose its authority as trusted'],
  ERR_SSL_TLSV13_ALERT_CERTIFICATE_REQUIRED: ['client', 'it wants a certificate of ours', 'Log in by certificate'],
}

/** Why there is no answer. */
export function failureOfWeb(e: unknown, url: URL): Failure {
  if (e instanceof FailureError) return { ...e.failure, where: 'destination' }
  const { code = '' } = e as { code?: string }
  const known = certificate[code]
  if (known) return { code: `tls.${known[0]}`, message: `${url.host}: ${known[1]}`, hint: known[2], where: 'destination' }
  if (code === 'EPROTO' || code.startsWith('ERR_SSL'))
    return {
      code: 'tls.protocol',
      message: `${url.host} does not speak TLS as it should: ${wordsOf(e).slice(0, 120)}`,
      hint: 'Is it plain http there? Or does it want a certificate of ours?',
      where: 'destination',
    }
  if (code.startsWith('HPE_'))
    return { code: 'http.protocol', message: `${url.host} does not answer by HTTP`, hint: 'Is it another protocol, or https?', where: 'destination' }
  if (code === 'ETIMEDOUT' || code === 'ECONNABORTED')
    return {
      code: 'http.silent',
      message: `${url.host} gave no answer in time`,
      hint: 'It is slow, or something in between holds it back; what was sent goes again, under the same key',
      where: 'destination',
    }
  if (code === 'ENOTFOUND' || code === 'EAI_AGAIN')
    return {
      code: 'name.unknown',
      message: `The name ${url.hostname} cannot be resolved`,
      hint: 'Check the spelling, or use the IP address',
      where: 'destination',
    }
  if (code === 'EPIPE' || (code === 'ECONNRESET' && !(e instanceof FailureError)))
    return {
      code: 'http.cut',
      message: `${url.host} hung up before it answered`,
      hint: 'What was sent goes again, under the same key',
      where: 'destination',
    }
  return portFailure(e, url.hostname, Number(url.port || (url.protocol === 'https:' ? 443 : 80)), 'destination')
}
