export const page = `<!doctype html>
<html lang="en"><head><meta charset="utf-8"><title>Varnmoor stand-in panel</title>
<meta name="viewport" content="width=device-width"><style>
:root{color-scheme:light dark;--paper:#F7F4EF;--ink:#23201C;--line:#DDD6CB;--clay:#A8482F;--good:#1F7666;--bad:#8A2450}
@media(prefers-color-scheme:dark){:root{--paper:#1c1a17;--ink:#ece7df;--line:#3a352e;--clay:#d4795f;--good:#57b3a0;--bad:#d3709a}}
body{background:var(--paper);color:var(--ink);font:14px/1.5 system-ui,sans-serif;max-width:860px;margin:32px auto;padding:0 20px}
h1{font-size:18px}h2{font-size:14px;border-bottom:1px solid var(--line);padding-bottom:6px;margin-top:28px}
table{border-collapse:collapse;width:100%}td,th{text-align:left;padding:4px 10px 4px 0;border-bottom:1px solid var(--line);font-weight:400}
th{opacity:.7}code{font-size:12px}button{font:inherit;border:1px solid var(--line);background:none;color:inherit;border-radius:3px;padding:2px 10px;cursor:pointer}
button:hover,button:focus-visible{border-color:var(--clay);outline:none}input{font:inherit;color:inherit;background:none;border:1px solid var(--line);border-radius:3px;padding:2px 6px}
input[type=number]{width:76px;text-align:right}input:focus-visible{border-color:var(--clay);outline:none}input:invalid{border-color:var(--bad)}
form{display:grid;grid-template-columns:repeat(3,auto);gap:6px 28px;justify-content:start;align-items:center;margin:8px 0}form label{display:flex;gap:8px;justify-content:space-between;align-items:center}form .all{grid-column:1/-1;display:flex;gap:8px;align-items:center}
.num td{font-variant-numeric:tabular-nums}.good{color:var(--good)}.bad{color:var(--bad)}p{max-width:64ch}
</style></head><body><h1>Varnmoor Clayworks, stand-in panel</h1>
<p>The simulated devices and broker of the demo. What you do here is what somebody at the works would do, or what goes wrong there.</p>
<h2>Kiln controller (OPC UA)</h2><p>Link: <b id="kl"></b>. <label>Cut for <input type="number" min="1" max="3600" value="20" data-cut-s="kiln"> s</label> <button data-cut="kiln">Cut</button></p>
<form data-faults="kiln" aria-label="Faults of the kiln"><label>Slow by, ms <input type="number" name="slowMs" min="0" max="60000" value="0"></label>
<label>Refuse log-ins <input type="checkbox" name="refuseLogins"></label><span class="all"><button>Set</button><button type="button" data-clear>Clear all</button><b data-said></b></span></form>
<table><thead><tr><th>Client certificate</th><th>Thumbprint</th><th>State</th><th></th></tr></thead><tbody id="kc"></tbody></table>
<h2>Dryers and meters (Modbus TCP)</h2><p>Link: <b id="fl"></b>. <label>Cut for <input type="number" min="1" max="3600" value="20" data-cut-s="field"> s</label> <button data-cut="field">Cut</button> Requests <span id="fr"></span></p>
<form data-faults="field" aria-label="Faults of dryers and meters"><label>Slow by, ms <input type="number" name="slowMs" min="0" max="60000" value="0"></label>
<label>Silent unit <input type="number" name="silentUnit" min="0" max="255" value="0"></label><label>Exception to all <input type="number" name="exception" min="0" max="255" value="0"></label><label>Short frames <input type="checkbox" name="shortFrames"></label>
<span class="all"><button>Set</button><button type="button" data-clear>Clear all</button><b data-said></b></span></form>
<p>Units 1 to 6 are the dryer chambers (5 is slow and at times silent by itself), 11 the gas meter, 12 to 14 the power meters.</p>
<h2>Compressor (HTTP)</h2><form data-faults="compressor" aria-label="Faults of the compressor"><label>Slow by, ms <input type="number" name="slowMs" min="0" max="60000" value="0"></label>
<label>Failing <input type="checkbox" name="failing"></label><span class="all"><button>Set</button><button type="button" data-clear>Clear all</button><b data-said></b></span></form>
<h2>Site broker (MQTT)</h2><p>Link: <b id="bl"></b>. <label>Cut for <input type="number" min="1" max="3600" value="20" data-cut-s="broker"> s</label> <button data-cut="broker">Cut</button></p>
<p>Received <span id="bp"></span>, delivered <span id="bd"></span></p>
<form data-faults="broker" aria-label="Faults of the broker">
<label>Slow by, ms <input type="number" name="slowMs" min="0" max="60000" value="0"></label><label>Refuse log-ins <input type="checkbox" name="refuseLogins"></label><label>Seed <input type="number" name="seed" value="1" step="1"></label>
<label>Drop, % <input type="number" name="drop" min="0" max="100" step="0.1" value="0" data-share></label><label>Double, % <input type="number" name="double" min="0" max="100" step="0.1" value="0" data-share></label><label>Reorder, % <input type="number" name="reorder" min="0" max="100" step="0.1" value="0" data-share></label>
<label>Alter, % <input type="number" name="alter" min="0" max="100" step="0.1" value="0" data-share></label><label>Delay, % <input type="number" name="delay" min="0" max="100" step="0.1" value="0" data-share></label><label>by, ms <input type="number" name="delayMs" min="0" max="600000" value="2000"></label>
<label>Drop acknowledgements, % <input type="number" name="dropAcks" min="0" max="100" step="0.1" value="0" data-share></label><label>Close after one, % <input type="number" name="closeAfterAck" min="0" max="100" step="0.1" value="0" data-share></label><label>Only to client <input name="client" placeholder="all" size="12"></label>
<label>In flight at most <input type="number" name="inFlight" min="0" max="65535" value="0"></label><label>Answers SUBSCRIBE after, ms <input type="number" name="subackMs" min="0" max="600000" value="0"></label><label>Largest packet <input type="number" name="maximumPacketSize" min="0" value="0"></label>
<label>Highest QoS <input type="number" name="maximumQos" min="0" max="2" value="2"></label><label>Keeps retained <input type="checkbox" name="retainAvailable" checked></label><label>Quota used up <input type="checkbox" name="quota"></label>
<label>New ids at repetition <input type="checkbox" name="renumber"></label><label>Exchanges . and / <input type="checkbox" name="exchangeDots"></label><label>Only 3.1.1 <input type="checkbox" name="oldOnly"></label>
<label>Hangs up on topics with <input name="hangUpOn" size="12" data-text></label><label>Swallows topics with <input name="swallow" size="12" data-text></label><span></span>
<label>Refuses filters with <input name="refuseFilter" size="12" data-text></label><label>Nothing for filters with <input name="hollowFilter" size="12" data-text></label><span></span>
<span class="all"><button>Set</button><button type="button" data-clear>Clear all</button><b data-said></b></span></form>
<p>Shares are of deliveries to readers, and of acknowledgements to senders. The same seed gives the same chances. What was done to each stands in <a href="/api/broker/log">the broker's log</a>.</p>
<table><thead><tr><th>Client</th><th>State</th><th>Subscriptions</th><th>Waiting</th></tr></thead><tbody id="bc"></tbody></table>
<h2>Works stream (Kafka protocol)</h2><p>Link: <b id="sl"></b>. <label>Cut for <input type="number" min="1" max="3600" value="20" data-cut-s="stream"> s</label> <button data-cut="stream">Cut</button> <button id="sm">Other nodes lead</button></p>
<p>Told to be kept <span id="sk"></span></p>
<form data-faults="stream" aria-label="Faults of the stream">
<label>Slow by, ms <input type="number" name="slowMs" min="0" max="60000" value="0"></label><label>Refuse log-ins <input type="checkbox" name="refuseLogins"></label><label>Seed <input type="number" name="seed" value="1" step="1"></label>
<label>Drop, % <input type="number" name="drop" min="0" max="100" step="0.1" value="0" data-share></label><label>Double, % <input type="number" name="double" min="0" max="100" step="0.1" value="0" data-share></label><label>Alter, % <input type="number" name="alter" min="0" max="100" step="0.1" value="0" data-share></label>
<label>Lose answers, % <input type="number" name="loseAnswer" min="0" max="100" step="0.1" value="0" data-share></label><label>Wait, ms <input type="number" name="throttleMs" min="0" max="60000" value="0"></label><label>Disk full <input type="checkbox" name="full"></label>
<label>Topics with <input name="errorOn" size="12" data-text></label><label>answer error <input type="number" name="error" min="-1" max="200" value="7"></label><label>Largest batch <input type="number" name="maximumBatch" min="100" value="1048576"></label>
<span class="all"><button>Set</button><button type="button" data-clear>Clear all</button><b data-said></b></span></form>
<p>What it was handed and told to be kept stands in <a href="/api/stream/log">the stream's log</a>.</p>
<h2>Schema registry of the stream (HTTPS)</h2><p>Schemas <span id="gk"></span></p>
<form data-faults="schemas" aria-label="Faults of the schema registry"><label>Slow by, ms <input type="number" name="slowMs" min="0" max="120000" value="0"></label>
<label>Refuse log-ins <input type="checkbox" name="refuseLogins"></label><label>Keeps nothing new <input type="checkbox" name="readOnly"></label>
<label>Only the first for subjects with <input name="firstOnly" size="12" data-text></label><label>Answer status <input type="number" name="status" min="0" max="599" value="0"></label><span></span>
<span class="all"><button>Set</button><button type="button" data-clear>Clear all</button><b data-said></b></span></form>
<h2>Works receiver (HTTPS)</h2><p>Link: <b id="rl"></b>. <label>Cut for <input type="number" min="1" max="3600" value="20" data-cut-s="receiver"> s</label> <button data-cut="receiver">Cut</button> <button id="rt">End all tokens</button></p>
<p>Told to be kept <span id="rk"></span></p>
<form data-faults="receiver" aria-label="Faults of the receiver">
<label>Slow by, ms <input type="number" name="slowMs" min="0" max="120000" value="0"></label><label>Refuse log-ins <input type="checkbox" name="refuseLogins"></label><label>Seed <input type="number" name="seed" value="1" step="1"></label>
<label>Drop, % <input type="number" name="drop" min="0" max="100" step="0.1" value="0" data-share></label><label>Double, % <input type="number" name="double" min="0" max="100" step="0.1" value="0" data-share></label><label>Alter, % <input type="number" name="alter" min="0" max="100" step="0.1" value="0" data-share></label>
<label>Lose answers, % <input type="number" name="loseAnswer" min="0" max="100" step="0.1" value="0" data-share></label><label>Fail after keeping, % <input type="number" name="failAfter" min="0" max="100" step="0.1" value="0" data-share></label><label>No room <input type="checkbox" name="full"></label>
<label>Paths with <input name="errorOn" size="12" data-text></label><label>answer status <input type="number" name="status" min="200" max="599" value="503"></label><label>Retry after, s <input type="number" name="retryAfterS" min="0" max="3600" value="0"></label>
<label>Redirect to <input name="location" size="12" data-text></label><label>Refuses messages with <input name="dislikes" size="12" data-text></label><label>as a whole request <input type="checkbox" name="whole"></label>
<label>Largest request <input type="number" name="most" min="100" value="8388608"></label><label>Hangs up on messages with <input name="hangsUpOn" size="12" data-text></label><span></span>
<span class="all"><button>Set</button><button type="button" data-clear>Clear all</button><b data-said></b></span></form>
<p>What it was handed and answered as kept stands in <a href="/api/receiver/log">the receiver's log</a>.</p>
<h2>Works object store (HTTPS)</h2><p>Link: <b id="ol"></b>. <label>Cut for <input type="number" min="1" max="3600" value="20" data-cut-s="objects"> s</label> <button data-cut="objects">Cut</button></p>
<p>Told to be kept <span id="ok"></span>, parts of nothing <span id="op"></span></p>
<form data-faults="objects" aria-label="Faults of the object store">
<label>Slow by, ms <input type="number" name="slowMs" min="0" max="120000" value="0"></label><label>Refuse keys <input type="checkbox" name="refuseLogins"></label><label>Seed <input type="number" name="seed" value="1" step="1"></label>
<label>Drop, % <input type="number" name="drop" min="0" max="100" step="0.1" value="0" data-share></label><label>Double, % <input type="number" name="double" min="0" max="100" step="0.1" value="0" data-share></label><label>Alter, % <input type="number" name="alter" min="0" max="100" step="0.1" value="0" data-share></label>
<label>Lose answers, % <input type="number" name="loseAnswer" min="0" max="100" step="0.1" value="0" data-share></label><label>Fail after keeping, % <input type="number" name="failAfter" min="0" max="100" step="0.1" value="0" data-share></label><label>No room <input type="checkbox" name="full"></label>
<label>Keys with <input name="errorOn" size="12" data-text></label><label>answer status <input type="number" name="status" min="300" max="599" value="403"></label><label>and code <input name="code" size="12" value="AccessDenied" data-text></label>
<label>Wants fewer requests <input type="checkbox" name="busy"></label><label>Checksums of its own <input type="checkbox" name="ownSums"></label><label>Clock ahead, s <input type="number" name="clockS" min="-86400" max="86400" value="0"></label>
<span class="all"><button>Set</button><button type="button" data-clear>Clear all</button><b data-said></b></span></form>
<p>What it was handed and answered as kept stands in <a href="/api/objects/log">the store's log</a>.</p>
<h2>Works relay (UDP)</h2><p>Hears: <b id="dl"></b>. <label>Nobody listens for <input type="number" min="1" max="3600" value="20" data-cut-s="relay"> s</label> <button data-cut="relay">Close</button></p>
<p>Handed on to the group <span id="dk"></span></p>
<form data-faults="relay" aria-label="Faults of the relay">
<label>Slow by, ms <input type="number" name="slowMs" min="0" max="120000" value="0"></label><label>Deaf <input type="checkbox" name="deaf"></label><label>Seed <input type="number" name="seed" value="1" step="1"></label>
<label>Drop, % <input type="number" name="drop" min="0" max="100" step="0.1" value="0" data-share></label><label>Double, % <input type="number" name="double" min="0" max="100" step="0.1" value="0" data-share></label><label>Alter, % <input type="number" name="alter" min="0" max="100" step="0.1" value="0" data-share></label>
<label>Reorder, % <input type="number" name="reorder" min="0" max="100" step="0.1" value="0" data-share></label><span></span><span></span>
<span class="all"><button>Set</button><button type="button" data-clear>Clear all</button><b data-said></b></span></form>
<p>What came to it, and what it did with each, stands in <a href="/api/relay/log">the relay's log</a>.</p>
<h2>Tarn (cloud hub, by token)</h2><p>Link: <b id="tarnl"></b>. <label>Cut for <input type="number" min="1" max="3600" value="20" data-cut-s="tarn"> s</label> <button data-cut="tarn">Cut</button> Taken <span id="tarnt"></span></p>
<form data-faults="tarn" aria-label="Faults of Tarn"><label>Clock ahead, s <input type="number" name="clockS" min="-86400" max="86400" value="0"></label><span></span><span></span>
<span class="all"><button>Set</button><button type="button" data-clear>Clear all</button><b data-said></b></span></form>
<h2>Fell (cloud hub, by certificate)</h2><p>Link: <b id="felll"></b>. <label>Cut for <input type="number" min="1" max="3600" value="20" data-cut-s="fell"> s</label> <button data-cut="fell">Cut</button> Taken <span id="fellt"></span></p>
<form data-faults="fell" aria-label="Faults of Fell"><label>Clock ahead, s <input type="number" name="clockS" min="-86400" max="86400" value="0"></label><span></span><span></span>
<span class="all"><button>Set</button><button type="button" data-clear>Clear all</button><b data-said></b></span></form>
<p>Units, keys, aliases, limits and what was refused stand at the registry of each hub.</p>
<script>
const $=i=>document.getElementById(i), send=(m,u,b)=>fetch(u,{method:m,headers:{'content-type':'application/json'},body:JSON.stringify(b)}), post=(u,b)=>send('POST',u,b).then(draw)
function put(form,faults){for(const i of form.querySelectorAll('input')){const v=faults[i.name];if(i===document.activeElement)continue
if(i.type==='checkbox')i.checked=v;else i.value='share'in i.dataset?Math.round(v*1e4)/100:v??''}}
async function take(form){const b={};for(const i of form.querySelectorAll('input'))b[i.name]=i.type==='checkbox'?i.checked:i.type==='number'?(i.value===''?0:+i.value)/('share'in i.dataset?100:1):'text'in i.dataset?i.value:i.value||null
const r=await send('PUT','/api/'+form.dataset.faults+'/faults',b),said=form.querySelector('[data-said]');said.textContent=r.ok?'':(await r.json()).message;said.className=r.ok?'':'bad';touched.delete(form);draw()}
const touched=new Set()
for(const f of document.querySelectorAll('form')){f.oninput=()=>touched.add(f);f.onsubmit=e=>{e.preventDefault();take(f)}
f.querySelector('[data-clear]').onclick=()=>send('PUT','/api/'+f.dataset.faults+'/faults',{}).then(()=>{touched.delete(f);draw()})}
function working(faults){return Object.entries(faults).some(([k,v])=>!['seed','client','delayMs','error','maximumBatch','status','code','most'].includes(k)&&v!==0&&v!==false&&v!==''&&!(k==='maximumQos'&&v===2)&&!(k==='retainAvailable'&&v))}
const cell=(row,text,cls)=>{const td=row.insertCell();td.textContent=text;if(cls)td.className=cls;return td}
async function draw(){try{const s=await(await fetch('/api/state')).json()
for(const[i,x]of[['kl',s.kiln],['fl',s.field],['bl',s.broker],['sl',s.stream],['rl',s.receiver],['ol',s.objects],['dl',s.relay],['tarnl',s.tarn],['felll',s.fell]]){$(i).textContent=x.cut?'cut':'up';$(i).className=x.cut?'bad':'good'}
for(const f of document.querySelectorAll('form')){const x=s[f.dataset.faults].faults;if(!touched.has(f)){put(f,x);const b=f.querySelector('[data-said]');b.textContent=working(x)?'in force':'';b.className='bad'}}
$('fr').textContent=s.field.requests;$('sk').textContent=s.stream.kept;$('rk').textContent=s.receiver.kept;$('ok').textContent=s.objects.kept;$('gk').textContent=s.schemas.kept;$('tarnt').textContent=s.tarn.taken;$('fellt').textContent=s.fell.taken;$('dk').textContent=s.relay.kept;$('op').textContent=s.objects.partsOpen;$('bp').textContent=s.broker.published;$('bd').textContent=s.broker.delivered
const kc=$('kc');kc.replaceChildren();for(const c of s.kiln.certificates){const r=kc.insertRow();cell(r,c.subject);cell(r,c.thumbprint);cell(r,c.state,c.state==='trusted'?'good':'bad')
const b=document.createElement('button');b.textContent=c.state==='trusted'?'Refuse':'Trust';b.onclick=()=>post('/api/kiln/certificates/'+c.thumbprint,{trusted:c.state!=='trusted'});r.insertCell().append(b)}
if(!s.kiln.certificates.length)cell(kc.insertRow(),'None has called yet').colSpan=4
const bc=$('bc');bc.replaceChildren();for(const c of s.broker.clients){const r=bc.insertRow();cell(r,c.clientId);cell(r,c.connected?'connected':'away',c.connected?'good':'bad');cell(r,c.subscriptions.join(', ')||'-');cell(r,c.waiting)}
}catch(e){document.title='Stand-in panel: no answer'}}
for(const b of document.querySelectorAll('[data-cut]'))b.onclick=()=>post('/api/'+b.dataset.cut+'/cut',{seconds:+document.querySelector('[data-cut-s='+b.dataset.cut+']').value})
$('sm').onclick=()=>post('/api/stream/leaders',{})
$('rt').onclick=()=>post('/api/receiver/tokens',{})
draw();setInterval(draw,1500)
</script></body></html>`
