export const page = `<!doctype html>
<html lang="en"><head><meta charset="utf-8"><title>Varnmoor stand-in panel</title>
<meta name="viewport" content="width=device-width"><style>
:root{color-scheme:light dark;--paper:#F7F4EF;--ink:#23201C;--line:#DDD6CB;--clay:#A8482F;--good:#1F7666;--bad:#8A2450}
@media(prefers-color-scheme:dark){:root{--paper:#1c1a17;--ink:#ece7df;--line:#3a352e;--clay:#d4795f;--good:#57b3a0;--bad:#d3709a}}
body{background:var(--paper);color:var(--ink);font:14px/1.5 system-ui,sans-serif;max-width:860px;margin:32px auto;padding:0 20px}
h1{font-size:18px}h2{font-size:14px;border-bottom:1px solid var(--line);padding-bottom:6px;margin-top:28px}
table{border-collapse:collapse;width:100%}td,th{text-align:left;padding:4px 10px 4px 0;border-bottom:1px solid var(--line);font-weight:400}
th{opacity:.7}code{font-size:12px}button{font:inherit;border:1px solid var(--line);background:none;color:inherit;border-radius:3px;padding:2px 10px;cursor:pointer}
button:hover{border-color:var(--clay)}.good{color:var(--good)}.bad{color:var(--bad)}p{max-width:64ch}
</style></head><body><h1>Varnmoor Clayworks, stand-in panel</h1>
<p>The simulated devices and broker of the demo. What you do here is what somebody at the works would do, or what goes wrong there.</p>
<h2>Kiln controller (OPC UA)</h2><p>Link: <b id="kl"></b> <button data-cut="kiln" data-s="20">Cut for 20 s</button></p>
<table><thead><tr><th>Client certificate</th><th>Thumbprint</th><th>State</th><th></th></tr></thead><tbody id="kc"></tbody></table>
<h2>Site broker (MQTT)</h2><p>Link: <b id="bl"></b> <button data-cut="broker" data-s="20">Cut for 20 s</button></p>
<p>Received <span id="bp"></span>, delivered <span id="bd"></span></p>
<table><thead><tr><th>Client</th><th>State</th><th>Subscriptions</th><th>Waiting</th></tr></thead><tbody id="bc"></tbody></table>
<script>
const $=i=>document.getElementById(i), post=(u,b)=>fetch(u,{method:'POST',headers:{'content-type':'application/json'},body:JSON.stringify(b)}).then(draw)
const cell=(row,text,cls)=>{const td=row.insertCell();td.textContent=text;if(cls)td.className=cls;return td}
async function draw(){try{const s=await(await fetch('/api/state')).json()
for(const[i,x]of[['kl',s.kiln],['bl',s.broker]]){$(i).textContent=x.cut?'cut':'up';$(i).className=x.cut?'bad':'good'}
$('bp').textContent=s.broker.published;$('bd').textContent=s.broker.delivered
const kc=$('kc');kc.replaceChildren();for(const c of s.kiln.certificates){const r=kc.insertRow();cell(r,c.subject);cell(r,c.thumbprint);cell(r,c.state,c.state==='trusted'?'good':'bad')
const b=document.createElement('button');b.textContent=c.state==='trusted'?'Refuse':'Trust';b.onclick=()=>post('/api/kiln/certificates/'+c.thumbprint,{trusted:c.state!=='trusted'});r.insertCell().append(b)}
if(!s.kiln.certificates.length)cell(kc.insertRow(),'None has called yet').colSpan=4
const bc=$('bc');bc.replaceChildren();for(const c of s.broker.clients){const r=bc.insertRow();cell(r,c.clientId);cell(r,c.connected?'connected':'away',c.connected?'good':'bad');cell(r,c.subscriptions.join(', ')||'-');cell(r,c.waiting)}
}catch(e){document.title='Stand-in panel: no answer'}}
for(const b of document.querySelectorAll('[data-cut]'))b.onclick=()=>post('/api/'+b.dataset.cut+'/cut',{seconds:+b.dataset.s})
draw();setInterval(draw,1500)
</script></body></html>`
