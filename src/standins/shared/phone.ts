/** A plain page to play a person with: who you are, what to say, what can be pressed, what comes back. */
export const phonePage = (title: string): string => `<!doctype html>
<html lang="en"><head><meta charset="utf-8"><meta name="viewport" content="width=device-width, initial-scale=1">
<title>${title}</title>
<style>
:root { font: 15px/1.45 system-ui, sans-serif; color: #12332e; background: #eef2f1 }
body { max-width: 34rem; margin: 0 auto; padding: 1rem; display: grid; gap: .75rem }
h1 { font-size: 1rem; margin: 0 } p { margin: 0; color: #4c615d }
select, input, button { font: inherit; padding: .45rem .6rem; border: 1px solid #9db3ae; border-radius: 4px; background: #fff; color: inherit }
button { background: #12332e; color: #fff; border-color: #12332e; cursor: pointer }
form { display: flex; gap: .5rem } form input { flex: 1; min-width: 0 }
ol { list-style: none; margin: 0; padding: 0; display: grid; gap: .5rem; max-height: 60vh; overflow: auto }
li { background: #fff; border-left: 3px solid #12332e; padding: .5rem .75rem; white-space: pre-wrap; overflow-wrap: anywhere }
li.mine { border-left-color: #9db3ae; background: #f8faf9 }
li button { margin: .4rem .4rem 0 0; background: #fff; color: #12332e }
small { color: #4c615d; display: block }
</style></head><body>
<h1>${title}</h1>
<p>You are a made-up person. What you say goes to the bot; what it answers stands below.</p>
<label>You are <select id="person"></select></label>
<ol id="said" aria-live="polite"></ol>
<form id="say"><input id="text" autocomplete="off" aria-label="What you say" placeholder="Say something"><button>Say</button></form>
<script>
const $ = (id) => document.getElementById(id)
const get = (path) => fetch(path).then((answer) => answer.json())
const post = (path, body) => fetch(path, { method: "POST", body: JSON.stringify(body) })
async function fill() { for (const one of await get("/standin/people")) $("person").add(new Option(one.name + " (" + one.id + ")", one.id)) }
let shown = ""
async function look() {
  const items = $("person").value ? await get("/standin/screens/" + encodeURIComponent($("person").value)) : []
  const state = JSON.stringify(items)
  if (state === shown) return
  shown = state
  $("said").replaceChildren(...items.map((one) => {
    const item = document.createElement("li")
    if (one.mine) item.className = "mine"
    item.append(one.text)
    for (const button of one.buttons || []) {
      const made = document.createElement("button")
      made.textContent = button.label
      made.onclick = () => post("/standin/press", { from: $("person").value, button: button.label })
      item.append(document.createElement("br"), made)
    }
    if (one.status) { const told = document.createElement("small"); told.textContent = one.status; item.append(told) }
    return item
  }))
  $("said").scrollTop = 1e9
}
$("say").onsubmit = async (event) => { event.preventDefault(); const text = $("text").value; $("text").value = ""; if (text) await post("/standin/say", { from: $("person").value, text }); look() }
fill().then(() => setInterval(look, 400))
</script></body></html>
`
