/** A bot to begin with: what it does, and its files. */
export interface Starter {
  says: string
  files(name: string): { [path: string]: string }
}

const head = (name: string) => `bot: ${name}
zone: Europe/Lisbon # whose dates and times are meant
language: en
`

/** Bots to begin with, by their names. */
export const starters: { [name: string]: Starter } = {
  echo: {
    says: "says again what it is told",
    files: (name) => ({
      "bot.yaml": `${head(name)}
routes:
  - name: hello
    when: { command: [start, help] }
    handler: { text: "Hello{{contact.name, select, other { {{contact.name}}}}}! Say something." }
unrouted: echo
`,
      "handlers/echo.ts": `import { handler } from "wobbet"

/** Takes whatever no route takes. */
export default handler(({ message }) => \`You said: \${message.text ?? message.event}\`)
`,
    }),
  },
  keyword: {
    says: "answers words and commands, by hours too",
    files: (name) => ({
      "bot.yaml": `${head(name)}
rules:
  place: { Holm Island: ["holm [island]", "[the] island"], Tern Point: "tern [point]" }
hours:
  window: { open: { mon-fri: "08:00-18:00", sat: "09:00-13:00" } }
routes:
  - name: next crossing
    when: { phrase: "[when is] [the] next (boat | ferry) [to $place]" }
    handler: crossings
  - name: window open
    when: { phrase: "[are you] open", during: window }
    handler: { text: "The window is open until {{hours.window.closes}}." }
  - name: window closed
    when: { phrase: "[are you] open", outside: window }
    handler: { text: "The window is closed. It opens {{hours.window.next}}." }
unrouted: { text: "Ask me for the **next boat**, or whether we are **open**." }
`,
      "handlers/crossings.ts": `import { handler } from "wobbet"

const boats = ["08:10", "11:30", "14:20", "17:45"]

/** The slot of the phrase holds the place, if one was named. */
export default handler(({ slots, now }) => {
  const time = now.toLocaleTimeString("en-GB", { hour: "2-digit", minute: "2-digit", timeZone: "Europe/Lisbon" })
  const next = boats.find((boat) => boat > time) ?? boats[0]
  return \`The next boat\${slots.place ? \` to \${slots.place}\` : ""} leaves at **\${next}**.\`
})
`,
    }),
  },
  questions: {
    says: "asks several questions in a row, and remembers the answers",
    files: (name) => ({
      "bot.yaml": `${head(name)}
routes:
  - name: booking
    when: { any: [{ command: [start, book] }, { phrase: "book [a] [seat | seats]" }] }
    handler: booking
unrouted: { text: "Say **book** to book seats." }
`,
      "handlers/booking.ts": `import { answer, interview, once, remember } from "wobbet"

/** Reads from top to bottom, and survives restarts and days of silence. */
export default interview(function* ({ contact }) {
  const day = yield* answer.date("Which day would you like to cross?", { from: "today" })
  const seats = yield* answer.integer("How many seats?", { min: 1, max: 8 })
  if (!(yield* answer.yesNo(\`\${seats} on \${day}: book them?\`))) return "As you like. Nothing is booked."

  // Runs once, also over a crash: pass the key on as an idempotency key.
  const ticket = yield* once("book", (key) => \`T-\${key.slice(5, 9)}\`)
  yield* remember({ lastTicket: ticket })
  return \`Booked\${contact.name ? \`, \${contact.name}\` : ""}. Your ticket is **\${ticket}**.\`
})
`,
    }),
  },
  relay: {
    says: "shows what people ask at a desk of yours, whose answers go back to them",
    files: (name) => ({
      "bot.yaml": `${head(name)}
# Change both to a place of yours: the key of a channel (wobbet channel list), and the address of a room or group there
# (wobbet conversation list). Say something there first, so that the bot knows the place.
also:
  - name: questions at the desk
    when:
      phrase: "[i] (need | want) [help from] (a person | somebody | the desk) $GARBAGE"
    relay:
      to:
        channel: desk-slack
        place: CDESK
      threads: true
  - name: photos at the desk
    when:
      media: image
    relay:
      to:
        channel: desk-slack
        place: CDESK
      threads: true
routes:
  - name: hello
    when:
      command: [start, help]
    handler: hello
  - name: asked
    when:
      phrase: "[i] (need | want) [help from] (a person | somebody | the desk) $GARBAGE"
    handler:
      text: "Somebody at the desk reads this, and answers you here."
  - name: photo
    when:
      media: image
    handler:
      text: "Thank you. The desk has your picture."
unrouted: hello
`,
      "handlers/hello.ts": `import { handler } from "wobbet"

/** What the desk writes in a question's thread goes back to whoever asked: no code is needed for that. */
export default handler(() => "Say **I need somebody**, or send a picture.")
`,
    }),
  },
  queue: {
    says: "leaves questions to a worker of your own, which fetches them off a queue",
    files: (name) => ({
      "bot.yaml": `${head(name)}
routes:
  - name: hello
    when: { command: [start, help] }
    handler: hello
  - name: lost
    when: { phrase: "[i [have]] lost (my | a) $text{thing}" }
    handler: { queue: ${name}, within: 30m, meanwhile: "We look for it.", fallback: "Nobody is there just now." }
unrouted: hello
`,
      "handlers/hello.ts": `import { handler } from "wobbet"

export default handler(() => "Say what you have lost: **I lost my umbrella**.")
`,
      "worker.py": `# Answers what waits at the queue. wobbet token make worker --queue ${name}
# WOBBET_URL=http://127.0.0.1:4180 WOBBET_TOKEN=wob_... python3 worker.py
import json, os, urllib.request

def ask(what, **body):
    request = urllib.request.Request(
        f'{os.environ["WOBBET_URL"]}/api/v1/queues/${name}/{what}',
        json.dumps(body).encode(),
        {"authorization": f'Bearer {os.environ["WOBBET_TOKEN"]}', "content-type": "application/json"},
    )
    return json.load(urllib.request.urlopen(request, timeout=60))

while True:
    for item in ask("lease", wait=20)["items"]:
        thing = item["turn"]["slots"]["thing"]
        ask("finish", lease=item["lease"], replies=[f"No {thing} has come in yet."])
`,
    }),
  },
  model: {
    says: "lets a model answer, from facts of yours and with a tool",
    files: (name) => ({
      "bot.yaml": `${head(name)}
models: # any server that speaks the common wire form
  harbour:
    address: "http://127.0.0.1:8080/v1"
    model: small # what the server calls it
    # key: MODEL_KEY # a secret: wobbet secret set MODEL_KEY
    limits: { person: { calls: 50 } } # a day
routes:
  - name: hello
    when: { command: [start, help] }
    handler: { text: "Ask me about crossings and fares." }
  - name: talk
    when: { event: text }
    handler:
      model: harbour
      instructions: persona.md
      facts: facts/*.md
      tools: crossings
      memory: 8 # messages
      within: 30s
      meanwhile: "One moment."
      fallback: "I cannot answer just now. Ask at the quay."
unrouted: { text: "Ask me in words." }
`,
      "persona.md": `You answer passengers of a small ferry, in one or two sentences, in the language they write in.

You know what stands in the facts, and what your tools tell you. What you do not know you do not make up.
`,
      "facts/fares.md": `# Fares

A crossing costs 8 euros, 4 for children under twelve. Dogs travel free.

## Bicycles

A bicycle costs 2 euros. Eight fit on a boat.
`,
      "tools/crossings.ts": `import { tool } from "wobbet"

const boats = ["08:10", "11:30", "14:20", "17:45"]

/** Looked up, so that the model makes up no timetable. */
export default tool<{ after?: string }>({
  description: "The crossings that leave today",
  parameters: {
    type: "object",
    properties: { after: { type: "string", description: "a time such as 14:00; all of them without it" } },
    additionalProperties: false,
  },
  run: ({ after = "00:00" }) => boats.filter((boat) => boat >= after),
})
`,
    }),
  },
}

/** How an editor, and \`tsc\`, see the folder. */
export const typeSettings = `{
  "compilerOptions": {
    "target": "ES2023",
    "lib": ["ES2023", "DOM"],
    "module": "ESNext",
    "moduleResolution": "bundler",
    "strict": true,
    "noEmit": true,
    "skipLibCheck": true,
    "allowImportingTsExtensions": true,
    "paths": { "wobbet": ["./types/sdk/index.d.ts"] }
  },
  "include": ["handlers", "tools"]
}
`
