const base = 'http://127.0.0.1:7900'
const login = await fetch(base + '/api/session', {
  method: 'POST',
  headers: { 'content-type': 'application/json', origin: base },
  body: JSON.stringify({ login: 'ines', password: 'varnmoor-engineer-2' }),
})
const cookie = login.headers
  .getSetCookie()
  .map((c) => c.split(';')[0])
  .join('; ')
const r = await (await fetch(base + '/api/ledger', { headers: { cookie } })).json()
for (const l of r) console.log(l.publication, l.destination, JSON.stringify(l.counts ?? l).slice(0, 400))
