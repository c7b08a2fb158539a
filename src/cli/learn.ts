import { createInterface } from "node:readline/promises"
import type { Command } from "commander"
import type { FieldRole, LearnedAgreement, LearningShown } from "../client/types.ts"
import { collect, pairs, secrets } from "./values.ts"
import { CommandFault, connect } from "./context.ts"
import { exampleHelp, examplesFrom, sortedFile, textOf } from "./examples.ts"
import { asJson, colors, inLine, print, table } from "./output.ts"

interface Options {
  minutes: string
  samples: string
  sample?: string[]
  request?: string[]
  entry?: string
  answer?: string[]
  also?: string[]
  remedy?: string
  receiveOnly?: boolean
  name?: string
  field?: string[]
  secret?: string[]
  set?: string[]
  names?: boolean
  sendTo?: string
  send?: string
  form?: boolean
  bearer?: string
  header?: string[]
  yes?: boolean
  stop?: boolean
  json?: boolean
}

type Sample = NonNullable<LearningShown["sample"]>

const roleWords: { [role in FieldRole]: string } = {
  from: "the sender",
  text: "the text",
  id: "the message's id",
  time: "its time",
  name: "the sender's name",
  place: "the conversation",
  media: "a picture or file",
  mime: "its sort",
}

/** `wobbet channel learn`: from one call to a profile, without editing a file. */
export function learnCommand(channel: Command): void {
  channel
    .command("learn")
    .description("wait for calls of an unknown gateway, show their fields, and write a profile when you agree")
    .argument("<key>", "a channel of the kind custom or sms")
    .option("--minutes <n>", "how long to wait for a call", "10")
    .option(
      "--samples <n>",
      "how many calls to wait for: with a report or an account's state among them, more is learned",
      "1",
    )
    .option(
      "--sample <file>",
      "a call from a file instead: as HTTP, or its body alone; may be given several times",
      collect,
    )
    .option("--request <file>", `how a message is sent, ${exampleHelp}`, collect)
    .option("--entry <n>", "which request of a HAR file")
    .option(
      "--answer <file>",
      "an example of the answer the gateway wants inside its own call; with send= in front, of what it answers when a message is sent",
      collect,
    )
    .option("--receive-only", "the channel says nothing")
    .option("--also <name=place>", "a further field that reaches handlers, such as campaign=/meta/campaign", collect)
    .option("--remedy <words>", "what to do when the account is no longer linked")
    .option("--name <profile>", "the profile's name; the channel's key when left out")
    .option(
      "--field <role=place>",
      "corrects a proposal, such as from=/sender/number, text=/payload/body or own=/fromMe",
      collect,
    )
    .option("--secret <name=value>", "what calls are proven by, or the key for sending", collect)
    .option("--set <name=value>", "a setting, such as apiBase=https://…", collect)
    .option("--names", "people are names of the gateway's own, not telephone numbers")
    .option("--send-to <address>", 'where a message is posted, such as "{apiBase}/messages"')
    .option("--send <json>", 'what is posted, such as \'{"to":"{to}","text":"{text}"}\'')
    .option("--form", "post it as a form instead of JSON")
    .option("--bearer <secret>", "the secret that authorises sending")
    .option("--header <name=value>", 'a header of what is sent, such as "x-api-key={apiKey}"', collect)
    .option("--yes", "agree to what is proposed")
    .option("--stop", "stop waiting, and forget what was learned")
    .option("--json", "for programs: what was learned; agreed to only with --yes")
    .addHelpText(
      "after",
      `
Example:
  wobbet channel add custom holm-bridge
  wobbet channel learn holm-bridge --secret signingSecret=env:BRIDGE_SECRET --secret apiKey=env:BRIDGE_KEY \\
    --request example-from-its-documentation.txt

The example may be a curl command, a request as HTTP, or a HAR file. Without one, say it field by field:
  --set apiBase=https://bridge.example --send-to "{apiBase}/out" --send '{"number":"{to}","body":"{text}"}' --bearer apiKey`,
    )
    .action(learn)
}

async function learn(key: string, options: Options): Promise<void> {
  const client = connect()
  if (!options.stop) checkOptions(options)
  if (options.stop) {
    await client.stopLearning(key)
    if (!asJson(options, { stopped: key })) print(`${key} no longer waits.`)
    return
  }
  const given = secrets(options.secret)
  if (Object.keys(given).length > 0) await client.changeChannel(key, { secrets: given })
  const before = options.sample
    ? await client.giveSamples(
        key,
        options.sample.map((file) => textOf(file)),
      )
    : await client.learned(key)
  const learned = before.sample ? before : await waitForCall(key, options)
  const { sample } = learned
  if (!sample) throw new CommandFault("No call came.", `Let the gateway call ${learned.inlet}, and learn again.`)
  const { own: ownGiven, ...corrected } = pairs(options.field)
  const places = { ...sample.roles, ...corrected }
  const own = ownGiven === undefined ? sample.own : ownMark(ownGiven)
  if (!options.json) printSample(sample, places)
  if (options.json && !options.yes) {
    asJson(options, { ...learned, places })
    return
  }
  const open = sample.doubts.filter((doubt) => !corrected[doubt.startsWith("the sender") ? "from" : "text"])
  if (options.yes && open.length > 0)
    throw new CommandFault(
      `Nothing was written, since it is not certain: ${open.join("; ")}.`,
      "Say which with --field from=… or --field text=…, or agree yourself without --yes. The call stays meanwhile.",
    )
  const agreement: LearnedAgreement = {
    name: options.name ?? key,
    places,
    ...(own ? { own } : {}),
    ...(options.names ? { addresses: "names" as const } : {}),
    ...(options.also ? { fields: pairs(options.also) } : {}),
    ...(options.remedy ? { remedy: options.remedy } : {}),
    ...sendingFrom(options),
    settings: pairs(options.set),
    // Again, since with the profile they have somewhere to go.
    ...(Object.keys(given).length > 0 ? { secrets: given } : {}),
  }
  if (!options.yes && !(await agrees(agreement.name))) {
    print("Nothing was written. The call stays: run the command again with other --field, or forget it with --stop.")
    process.exitCode = 1
    return
  }
  const done = await client.agreeToLearned(key, agreement)
  if (asJson(options, done)) return
  print(
    `${colors.green("●")} The profile ${done.profile} is written${done.file ? ` (${done.file} of the bot folder)` : ""}, and ${key} speaks by it.`,
    ...(done.stays.length > 0 ? [`  The same for everybody: ${inLine(done.stays.join("; "), 400)}.`] : []),
    ...(done.first === undefined
      ? [`  Next: wobbet channel check ${key}, and wobbet channel connect ${key} where it registers its address.`]
      : [
          done.first.status < 300
            ? "  The call it was learned from was read as the first: wobbet tail shows its answer."
            : `  The call it was learned from is not genuine by it (${done.first.status}): wobbet channel check ${key} says why.`,
        ]),
  )
}

/** All that is missing or cannot be meant, before anybody waits for a call. */
function checkOptions(options: Options): void {
  const wrong: string[] = []
  if (!(Number(options.minutes) > 0)) wrong.push(`--minutes is "${options.minutes}", not a number of minutes`)
  for (const role of Object.keys(pairs(options.field)))
    if (role !== "own" && !(role in roleWords))
      wrong.push(`--field ${role}=… names no role; there are ${[...Object.keys(roleWords), "own"].join(", ")}`)
  if (!(Number.isInteger(Number(options.samples)) && Number(options.samples) >= 1 && Number(options.samples) <= 10))
    wrong.push(`--samples is "${options.samples}", not a number from 1 to 10`)
  const said = options.request ?? options.answer ?? options.receiveOnly
  if (said === undefined && (options.yes || options.sendTo || options.send)) {
    if (!options.sendTo && !options.send) wrong.push("nothing says how a message is sent: --request file is missing")
    else if (!options.sendTo) wrong.push('--send-to is missing, such as --send-to "{apiBase}/messages"')
    if (options.sendTo && !options.send)
      wrong.push('--send is missing, such as --send \'{"to":"{to}","text":"{text}"}\'')
  }
  if (options.send)
    try {
      JSON.parse(options.send)
    } catch {
      wrong.push(`--send is not JSON: ${options.send}`)
    }
  if (wrong.length > 0)
    throw new CommandFault(`${wrong.join(". ")}.`, "Nothing was begun. Correct the options, and run the command again.")
}

/** `/path`, or `/path:value` where the value is another than true. */
function ownMark(given: string): { where: string; values: (string | boolean)[] } {
  const at = given.lastIndexOf(":")
  return at > 0
    ? { where: given.slice(0, at), values: given.slice(at + 1).split("|") }
    : { where: given, values: [true] }
}

async function waitForCall(key: string, options: Options): Promise<LearningShown> {
  const client = connect()
  const minutes = Number(options.minutes)
  const wanted = Number(options.samples)
  const begun = await client.learn(key, { minutes, wanted })
  if (!options.json)
    print(
      `Waiting for ${wanted === 1 ? "one call" : `${wanted} calls`} at ${colors.bold(begun.inlet)}, for ${minutes} minutes. Let the gateway send a message.`,
    )
  let came = 0
  let ended = false
  const stop = () => {
    ended = true
    void client.stopLearning(key).finally(() => process.exit(130))
  }
  process.once("SIGINT", stop)
  try {
    for (;;) {
      const view = await client.learned(key)
      if (view.sample || !view.waiting || ended) return view
      if (view.waiting.came > came && !options.json) print(`  ${(came = view.waiting.came)} of ${wanted} came.`)
      await new Promise((resolve) => setTimeout(resolve, 500))
    }
  } finally {
    process.off("SIGINT", stop)
  }
}

function printSample(sample: Sample, places: { [role: string]: string }): void {
  const roleOf = new Map(Object.entries(places).map(([role, where]) => [where, role as FieldRole]))
  print("", `A call came: ${sample.call.method} ${sample.call.address}, ${sample.body}.`, "")
  table(
    ["field", "value", "taken as", "how sure"],
    sample.fields.map(({ where, value, role: proposed, certainty, otherwise = [] }) => {
      const role = roleOf.get(where)
      if (!role) return [where, inLine(value, 40), "", ""]
      const others = otherwise.length > 0 ? `; or ${otherwise.join(", ")}` : ""
      const sure = role === proposed ? `${certainty}${certainty === "sure" ? "" : others}` : "as you said"
      return [where, inLine(value, 40), colors.green(roleWords[role]), inLine(sure, 60)]
    }),
    "It has no fields.",
  )
  print("")
  for (const proof of sample.proofs)
    print(`${proof.certain ? colors.green("●") : colors.yellow("○")} proven: ${proof.says}`)
  for (const lack of sample.lacks) print(`${colors.yellow("○")} ${lack}`)
  for (const doubt of sample.doubts) print(`${colors.yellow("○")} not certain: ${doubt}`)
  const { more } = sample
  const told = [
    more.status && "reports of delivery",
    more.state && "the account's state",
    more.handshake && "a check of the address",
    more.message && Object.keys(more.message).join(", "),
  ].filter(Boolean)
  if (told.length > 0) print(`${colors.green("●")} also found: ${told.join("; ")}`)
  if (sample.own)
    print(`${colors.green("●")} our own words: where ${sample.own.where} is ${sample.own.values.join(" or ")}`)
  print("")
}

function sendingFrom(options: Options): Pick<LearnedAgreement, "sending" | "requests" | "answer" | "answers"> {
  const { request, answer: given = [], entry } = options
  const sorted = given.map(sortedFile)
  const answer = sorted.find(({ as }) => as === undefined)?.file
  const answers = sorted.flatMap(({ as, file }) => (as === undefined ? [] : [{ to: as, text: textOf(file) }]))
  const more = {
    ...(request ? { requests: examplesFrom(request, entry === undefined ? undefined : Number(entry)) } : {}),
    ...(answer === undefined ? {} : { answer: textOf(answer) }),
    ...(answers.length > 0 ? { answers } : {}),
  }
  if (options.receiveOnly || ((request || answer !== undefined) && !options.sendTo)) return more
  if (!options.sendTo || !options.send)
    throw new CommandFault(
      "A call tells how a gateway speaks to us, not how it is spoken to.",
      "Give an example of its documentation with --request file, or say it with --send-to and --send. The call stays meanwhile.",
    )
  let send: object
  try {
    send = JSON.parse(options.send) as object
  } catch {
    throw new CommandFault(`--send is not JSON: ${options.send}`, 'Write it as \'{"to":"{to}","text":"{text}"}\'.')
  }
  const sending = {
    address: options.sendTo,
    body: options.form ? ("form" as const) : ("json" as const),
    send,
    ...(options.bearer ? { bearer: options.bearer } : {}),
    ...(options.header ? { headers: pairs(options.header) } : {}),
  }
  return { ...more, sending }
}

async function agrees(name: string): Promise<boolean> {
  if (!process.stdin.isTTY)
    throw new CommandFault(
      "Nobody can confirm here: this is not a terminal.",
      "Say --yes to agree to what is proposed. The call stays meanwhile.",
    )
  const ask = createInterface({ input: process.stdin, output: process.stdout })
  const answer = await ask.question(`Write this as the profile "${name}"? [y/N] `)
  ask.close()
  return /^y(es)?$/i.test(answer.trim())
}
