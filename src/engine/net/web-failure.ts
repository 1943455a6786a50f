import { type Failure, FailureError } from '~/contract/failure'
import { wordsOf } from '../log'
import { certificateFailure } from './peer-certificate'
import { portFailure } from './steps'

/** Why there is no answer. */
export function failureOfWeb(e: unknown, url: URL): Failure {
  if (e instanceof FailureError) return { ...e.failure, where: 'destination' }
  const { code = '' } = e as { code?: string }
  const certificate = certificateFailure(e, url.host, 'destination')
  if (certificate) return certificate
  if (code === 'ERR_SSL_TLSV13_ALERT_CERTIFICATE_REQUIRED')
    return { code: 'tls.client', message: `${url.host} wants a certificate of ours`, hint: 'Log in by certificate', where: 'destination' }
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
