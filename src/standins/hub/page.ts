/** The page of a hub's registry, of its own look: what the people of the receiving side work with. */
export function registryPage(by: 'token' | 'certificate'): string {
  const name = by === 'token' ? 'Tarn' : 'Fell'
  const hands = by === 'token' ? 'connection text' : 'kit (zip)'
  return `<!doctype html><html lang="en"><meta charset="utf-8"><title>${name} registry</title>
<style>
body{font:15px/1.5 Georgia,serif;max-width:70rem;margin:2rem auto;padding:0 1rem;color:#1d2b33;background:#eef2f1}
h1{font-weight:400;letter-spacing:.04em}table{border-collapse:collapse;width:100%;background:#fff}td,th{border-bottom:1px solid #cdd8d5;padding:.3rem .6rem;text-align:left;vertical-align:top}
button,input{font:inherit;padding:.15rem .6rem}textarea{width:100%;height:9rem;font:12px/1.4 monospace}.no{color:#8c2f1b}section{margin:1.6rem 0}
</style>
<h1>${name} registry</h1>
<section><form id="add"><label>Name of the unit <input id="name" required></label> <button>Register unit</button> <span id="said" class="no" role="alert"></span></form>
<div id="out" hidden><p>Hand this out, as it is:</p>${by === 'token' ? '<textarea id="text" aria-label="Connection text" readonly></textarea>' : '<a id="kit" download>Download the kit</a>'}</div></section>
<section><h2>Units</h2><table aria-label="Units"><thead><tr><th>Unit<th>Connected<th>Last message<th>Taken<th>Refused<th>Today<th>${by === 'certificate' ? 'Aliases' : ''}<th></tr></thead><tbody id="units"></tbody></table></section>
<section><h2>What was refused</h2><table aria-label="Refused"><thead><tr><th>When<th>Unit<th>Why<th>Topic</tr></thead><tbody id="log"></tbody></table></section>
<section><h2>Routed into the table</h2><table aria-label="Routed"><tbody id="rows"></tbody></table></section>
<script>
const $=(id)=>document.getElementById(id);const cell=(r,t)=>{r.insertCell().textContent=t??''};
const ask=async(method,path,body)=>{const a=await fetch('/api/'+path,{method,...(body!==undefined&&{body:JSON.stringify(body)})});const v=await a.json();if(!a.ok)throw new Error(v.message);return v};
const act=(r,label,go)=>{const b=document.createElement('button');b.textContent=label;b.onclick=()=>go().then(show,(e)=>{$('said').textContent=e.message});r.append(b,' ')};
$('add').onsubmit=async(e)=>{e.preventDefault();$('said').textContent='';try{const u=await ask('POST','units',{name:$('name').value});$('out').hidden=false;
${by === 'token' ? "$('text').value=u.handOut" : "$('kit').href=u.handOut"};await show()}catch(x){$('said').textContent=x.message}};
async function show(){const units=await ask('GET','units');$('units').replaceChildren();for(const u of units){const r=$('units').insertRow();cell(r,u.name+(u.enabled?'':' (disabled)'));cell(r,u.connected?'yes':'no');
cell(r,u.lastAt?new Date(u.lastAt).toISOString().slice(0,19):'');cell(r,u.taken);cell(r,u.refused);cell(r,u.used.dayCount+(u.limits.perDay===null?'':' of '+u.limits.perDay));cell(r,${by === 'certificate' ? "u.aliases.join(', ')" : "''"});
const c=r.insertCell();act(c,u.enabled?'Disable':'Enable',()=>ask('POST','units/'+encodeURIComponent(u.name)+'/'+(u.enabled?'disable':'enable')));
${by === 'token' ? "act(c,'Exchange keys',()=>ask('POST','units/'+encodeURIComponent(u.name)+'/rotate'));" : "act(c,'Declare alias',()=>{const a=prompt('Alias of the stream of data');return a?ask('POST','units/'+encodeURIComponent(u.name)+'/aliases',{alias:a}):Promise.resolve()});"}}
$('log').replaceChildren();for(const l of (await ask('GET','log')).slice(0,50)){const r=$('log').insertRow();cell(r,new Date(l.at).toISOString().slice(0,19));cell(r,l.unit);cell(r,l.words);cell(r,l.topic)}
$('rows').replaceChildren();for(const l of (await ask('GET','rows')).rows.slice(0,50)){const r=$('rows').insertRow();cell(r,new Date(l.at).toISOString().slice(0,19));cell(r,l.unit);cell(r,l.path);cell(r,JSON.stringify(l.fields))}}
show();setInterval(show,2000);
</script><p>Hands out: ${hands}.</p></html>`
}
