import type { Command } from "commander"
import type { TokenShown } from "../client/types.ts"
import { connect } from "./context.ts"
import { asJson, colors, inLine, print, printMore, table, when, wideHelp } from "./output.ts"

interface Json {
  json?: boolean
}

/** `wobbet token …`, and `wobbet audit`. */
export function tokenCommands(program: Command): void {
  const token = program.command("token").description("tokens for programs and people, and who is signed in")

  token
    .command("make")
    .description("make a token; it is shown this once")
    .argument("<name>", "whose it is, such as laptop-of-ines")
    .option("--role <role>", "owner, developer, operator or reader", "reader")
    .option("--channel <key>", 'valid only for fetching this channel\'s calls alone ("wobbet bring")')
    .option("--queue <name>", "valid only for leasing and answering this queue's turns alone")
    .option("--days <n>", "how many days it is valid; without end when left out")
    .option("--json", "for programs")
    .action(make)

  token
    .command("list")
    .description("all tokens: whose they are, what they may, when they were used last")
    .option("--wide", wideHelp)
    .option("--json", "for programs")
    .action(list)

  token
    .command("revoke")
    .description("revoke a token; sessions that began with it end")
    .argument("<name>", "its name or id")
    .option("--json", "for programs")
    .action(async (name: string, options: Json) => {
      const revoked = await connect().revokeToken(name)
      if (!asJson(options, revoked)) print(`Revoked ${revoked.name}: it no longer works.`)
    })

  token
    .command("sessions")
    .description("who is signed in to the console")
    .option("--end <id>", "end a session")
    .option("--wide", wideHelp)
    .option("--json", "for programs")
    .action(sessions)

  program
    .command("audit")
    .description("who did what, the newest first")
    .option("--who <name>", "a token's name, or the id of a token or session")
    .option("--did <what>", 'such as "channel changed"')
    .option("--limit <n>", "how many at most", "30")
    .option("--cursor <next>", "continue where the list before ended")
    .option("--wide", wideHelp)
    .option("--json", "for programs")
    .action(audit)
}

type MakeOptions = { role: string; channel?: string; queue?: string; days?: string } & Json

async function make(name: string, options: MakeOptions): Promise<void> {
  const { channel, queue } = options
  const role = channel ? "bring" : options.role
  const days = options.days === undefined ? undefined : Number(options.days)
  const made = queue
    ? await connect().makeWorkerToken(name, queue, days)
    : await connect().makeToken(name, role, channel, days)
  if (asJson(options, made)) return
  print(made.token)
  const good = queue
    ? `Good for the turns of the queue ${queue} alone`
    : channel
      ? `Good for fetching the calls of ${channel} alone`
      : `With the role ${role}`
  const until = made.expiresAt ? `, until ${when(made.expiresAt)}` : ""
  process.stderr.write(colors.dim(`${good}${until}. It is shown this once.\n`))
}

const roleOf = ({ role, channel, queue }: TokenShown) => {
  const alone = channel ?? queue
  return alone === undefined ? role : `${role} (${alone})`
}

async function list(options: Json): Promise<void> {
  const { items } = await connect().tokens()
  if (asJson(options, items)) return
  table(
    [
      "name",
      "role",
      { name: "made", spare: true },
      { name: "by", spare: true },
      "used last",
      "valid until",
      { name: "id", whole: true },
    ],
    items.map((token) => [
      token.name,
      roleOf(token),
      when(token.madeAt),
      token.madeBy ?? "–",
      when(token.usedAt),
      token.revokedAt
        ? colors.red(`revoked ${when(token.revokedAt)}`)
        : token.expiresAt
          ? Date.parse(token.expiresAt) < Date.now()
            ? colors.red(`expired ${when(token.expiresAt)}`)
            : when(token.expiresAt)
          : "without end",
      colors.dim(token.id),
    ]),
    "There are no tokens.",
  )
}

async function sessions(options: { end?: string } & Json): Promise<void> {
  const client = connect()
  if (options.end !== undefined) {
    await client.endSession(options.end)
    if (!asJson(options, { ended: options.end })) print(`Ended ${options.end}: whoever was in it is signed out.`)
    return
  }
  const { items } = await client.sessions()
  if (asJson(options, items)) return
  table(
    [
      "who",
      "role",
      { name: "from", spare: true },
      { name: "since", spare: true },
      "used last",
      "ends",
      { name: "id", whole: true },
    ],
    items.map((session) => [
      session.name,
      session.role,
      session.address ?? "–",
      when(session.startedAt),
      when(session.usedAt),
      when(session.until),
      colors.dim(session.id),
    ]),
    "Nobody is signed in.",
  )
}

async function audit(options: { who?: string; did?: string; limit: string; cursor?: string } & Json): Promise<void> {
  const { who, did, limit, cursor } = options
  const found = await connect().audit({
    limit,
    ...(who ? { who } : {}),
    ...(did ? { did } : {}),
    ...(cursor ? { cursor } : {}),
  })
  if (asJson(options, found)) return
  table(
    ["when", "who", "from", "did", "what"],
    found.items.map((one) => [when(one.at), one.who, one.address ?? "–", one.did, inLine(detailOf(one.detail), 60)]),
    "Nothing of this was done.",
  )
  printMore(found)
}

function detailOf(detail: { [field: string]: unknown } = {}): string {
  return Object.entries(detail)
    .map(([name, value]) => `${name}=${typeof value === "string" ? value : JSON.stringify(value)}`)
    .join(", ")
}
