import { type Failure, FailureError } from '~/contract/failure'
import { wordsOf } from '../log'
import type { MqttAccess } from './mqtt-access'
import { certificateFailure } from './peer-certificate'

/** Puts what sockets and TLS throw into words with what to do. */
export function mqttFailure(e: unknown, a: Pick<MqttAccess, 'host' | 'port' | 'cert'>, where: Failure['where'] = 'destination'): Failure {
  if (e instanceof FailureError) return { ...e.failure, where }
  const certificate = certificateFailure(e, a.host, where)
  if (certificate) return certificate
  const code = (e as { code?: string }).code ?? ''
  const words = wordsOf(e)
  const known: Record<string, [string, string, string]> = {
    ECONNREFUSED: ['port.refused', `Nothing listens on port ${a.port} of ${a.host}`, 'Check the port, and that the broker is running'],
    ENOTFOUND: ['name.unknown', `The name ${a.host} cannot be resolved`, 'Check the spelling, or use the IP address'],
    ETIMEDOUT: ['port.silent', `No answer from ${a.host}:${a.port}`, 'A firewall may be in between'],
    ERR_OSSL_X509_KEY_VALUES_MISMATCH: [
      'tls.key',
      'The key does not belong to the client certificate',
      'Two files were mixed up: replace the credential with the pair that was made together',
    ],
    ERR_SSL_WRONG_VERSION_NUMBER: ['tls.none', 'The port does not speak TLS', 'Switch TLS off, or take the TLS port (often 8883)'],
    EPROTO: ['tls.none', 'The port does not speak TLS as expected', 'Check port and TLS'],
    EPROTOCOL: [
      'mqtt.other',
      `What answers at ${a.host}:${a.port} is no MQTT broker, or wants TLS`,
      'Check the port: 8883 is usual for TLS, 1883 for plain',
    ],
    ENOGREETING: [
      'mqtt.no-greeting',
      `${a.host}:${a.port} takes the connection and does not greet`,
      'It may be no MQTT broker, want TLS, or hang: look there',
    ],
    ESILENT: [
      'mqtt.silent',
      `Nothing has been heard from ${a.host} for too long`,
      'The link is dead in one or both directions; Embrik connects anew',
    ],
    ENOSUBACK: ['mqtt.no-suback', 'The broker does not answer to a subscription', 'It is overloaded, or hangs; Embrik connects anew'],
    ERR_SSL_TLSV13_ALERT_CERTIFICATE_REQUIRED: [
      'tls.client-certificate',
      'The broker wants a client certificate',
      'Choose one under Certificate or log-in',
    ],
    ERR_SSL_SSLV3_ALERT_HANDSHAKE_FAILURE: ['tls.client-certificate', 'The broker ends the handshake', 'It most likely wants a client certificate'],
    ERR_SSL_SSLV3_ALERT_BAD_CERTIFICATE: [
      'tls.client-certificate',
      'The broker does not accept the client certificate',
      'Choose the one made for it',
    ],
    ERR_SSL_TLSV1_ALERT_UNKNOWN_CA: [
      'tls.client-certificate',
      'The broker does not know who signed the client certificate',
      'Choose one that its authority signed',
    ],
  }
  // What TLS protects was not what was sent (RFC 8446 6.2: bad_record_mac): told by the other side, or found here.
  if (/BAD_RECORD_MAC|DECRYPTION_FAILED|RECORD_LAYER_FAILURE/.test(code))
    return {
      code: 'tls.broken',
      message: `TLS to ${a.host}:${a.port} broke off: octets were lost or changed on the way`,
      hint: 'Something between, such as a proxy or a firewall, does not pass them on as they are; Embrik connects anew',
      where,
    }
  const hit = known[code]
  if (hit) return { code: hit[0], message: hit[1], hint: hit[2], where }
  if (code === 'ECONNRESET' || code === 'EPIPE' || /closed/i.test(words))
    return {
      code: 'mqtt.reset',
      message: 'The broker hung up',
      hint: a.cert
        ? 'Under TLS 1.3 a refused client certificate shows only as this; else the link was cut'
        : 'The link was cut, or the port wants TLS or a client certificate',
      where,
    }
  return { code: 'mqtt.failed', message: words.slice(0, 200), hint: 'Check the connection step by step', where }
}
