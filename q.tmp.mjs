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
const get = async (p, b) =>
  (
    await fetch(base + p, {
      method: b ? 'POST' : 'GET',
      headers: { cookie, origin: base, 'content-type': 'application/json' },
      body: b && JSON.stringify(b),
    })
  ).json()
const pubs = await get('/api/publications')
const to = Date.now()
const t0 = Date.now()
const all = await get('/api/compare', { publicationIds: [], from: to - 600000, to })
console.log('all', Date.now() - t0, 'ms', all.pairs?.length, JSON.stringify(all).length, all.notes)
for (const p of pubs) {
  const r = await get('/api/compare', { publicationIds: [p.id], from: to - 600000, to })
  const c = {}
  for (const x of r.pairs) {
    const k = x.state + ' ' + (x.finding?.kind ?? '')
    c[k] = (c[k] ?? 0) + 1
  }
  console.log(
    p.name,
    '|',
    r.pairs.length,
    JSON.stringify(c),
    r.notes,
    r.pairs[0] &&
      JSON.stringify([
        r.pairs[0].tag,
        r.pairs[0].came.place,
        r.pairs[0].held,
        r.pairs[0].carried,
        r.pairs[0].arrived,
        r.pairs[0].off,
        r.pairs[0].open,
        r.pairs[0].basis,
        r.pairs[0].finding,
      ]),
  )
  if (process.argv[2] && p.name.includes(process.argv[2])) console.log(JSON.stringify(r.pairs.slice(0, 3), null, 1))
}
