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
const get = async (p) => (await fetch(base + p, { headers: { cookie } })).json()
console.log(JSON.stringify(await get('/api/wrong'), null, 1).slice(0, 3500))
const ev = await get('/api/events?limit=60')
for (const e of ev) console.log(e.at, e.code, e.subject, e.message?.slice(0, 160))
