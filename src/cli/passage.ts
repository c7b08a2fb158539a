import type { Command } from "commander"
import { counted } from "../client/counted.ts"
import { originWords } from "../client/originWords.ts"
import { stopSigns } from "../client/rail.ts"
import { changesOf } from "../client/changes.ts"
import type {
  AttemptView,
  ElsewhereCallView,
  InterviewNote,
  OnceView,
  Passage,
  PassagePath,
  Stop,
} from "../client/types.ts"
import { connect } from "./context.ts"
import { asJson, clock, colors, inLine, print, rail, word, wrapped, whoOf } from "./output.ts"

/** `wobbet passage <id>`: the whole path of one intake, in words. */
export function passageCommand(program: Command): void {
  program
    .command("passage")
    .description("the whole path of one call: by its id, or that of any message in it")
    .argument("<id>")
    .option("--raw", "with headers and body as received")
    .option("--routes", "also why each route before the one that took it did not")
    .option("--json", "for programs")
    .action(async (id: string, options: { json?: boolean; raw?: boolean; routes?: boolean }) => {
      const passage = await connect().passage(id)
      if (asJson(options, passage)) return
      printPassage(passage, { raw: options.raw === true, routes: options.routes === true })
    })
}

function printPassage(passage: Passage, { raw, routes }: { raw: boolean; routes: boolean }): void {
  print(
    `${colors.bold(`Passage ${passage.id}`)} on ${passage.channel}, ${passage.receivedAt}`,
    "",
    `  ${rail(passage.stops)}  ${word(passage.stops)}`,
    "",
  )
  for (const stop of passage.stops) printStop(stop)
  if (passage.intake) printIntake(passage.intake, raw)
  for (const path of passage.paths) printPath(path, routes)
}

const stateColors: Record<Stop["state"], (text: string) => string> = {
  done: colors.green,
  "under way": colors.yellow,
  stopped: colors.red,
  ahead: colors.dim,
  skipped: colors.dim,
  untold: colors.dim,
}

const stateWords: Partial<Record<Stop["state"], string>> = { ahead: "not reached", skipped: "not needed" }

function printStop(stop: Stop): void {
  const tint = stateColors[stop.state]
  const time = stop.at && stop.state !== "skipped" ? clock(stop.at) : "        "
  print(
    `  ${tint(stopSigns[stop.state])} ${stop.stop.padEnd(10)} ${colors.dim(time)}  ${tint(wrapped(stop.why ?? stateWords[stop.state] ?? "", 25))}`,
  )
}

function printIntake(intake: NonNullable<Passage["intake"]>, raw: boolean): void {
  heading("Call")
  print(
    `  ${intake.method} ${intake.address}, ${intake.size} bytes, by ${intake.via}${intake.answered ? `, answered ${intake.answered}` : ""}`,
  )
  if (!intake.verdict.genuine) {
    const { why, near, tried, remedy } = intake.verdict
    print(`  ${colors.red("Not genuine:")} ${wrapped(`${why}.`, 2)}`)
    if (near) print(`  ${colors.yellow("A near miss:")} ${wrapped(near, 2)}`)
    if (tried) print(`  ${wrapped(tried, 2)}`)
    print(`  ${wrapped(remedy, 2)}`)
  }
  for (const note of intake.notes) print(`  ${note}`)
  if (!raw) return
  for (const [name, value] of Object.entries(intake.headers)) print(colors.dim(`  ${name}: ${value}`))
  print("", pretty(intake.body))
}

/** What the turn did with an interview. */
function printInterview({ did, question, value, why, aside, differs, unsteady }: InterviewNote): void {
  const about = [
    question && `“${inLine(question, 80)}”`,
    value === undefined ? undefined : valueWords(value),
    aside,
  ].filter(Boolean)
  print(`  interview: ${did}${about.length > 0 ? `: ${about.join(" → ")}` : ""}`)
  if (why) print(`  ${inLine(why, 300)}`)
  for (const [parting, says] of [
    [differs, "the handler has changed"],
    [unsteady, "it does not do the same when it is run again"],
  ] as const)
    if (parting)
      print(
        colors.yellow(
          `  ${says}: step ${parting.n} was ${inLine(parting.was, 120)}, now ${inLine(parting.is, 120)}${parting.line ? ` (${parting.line})` : ""}`,
        ),
      )
}

function onceWords({ name, runs, endedAt, value, threw }: OnceView): string {
  const times = runs > 1 ? `, begun ${runs} times with the same key` : ""
  const came = threw
    ? `threw ${inLine(threw.message, 120)}`
    : endedAt
      ? `gave ${valueWords(value)}`
      : "its result is not on record"
  return `once ${inLine(name, 60)}${times}: ${came}`
}

function valueWords(value: unknown): string {
  return value === undefined ? "nothing" : inLine(JSON.stringify(value), 200)
}

function printPath(path: PassagePath, routes: boolean): void {
  const { message } = path
  const { event, direction, origin, author } = message
  const own = direction === "in" ? "Message" : originWords(origin, author)
  heading(event === "interview" ? "Of an interview" : own)
  print(`  ${message.text ? `“${message.text.replaceAll("\n", "\n   ")}”` : `(${message.event})`}`)
  print(colors.dim(`  ${message.event}, ${whoOf(message)} ${message.conversation}, ${message.id}`))
  printDecision(path, routes)
  path.turns.forEach((turn, at) => {
    heading(path.turns.length > 1 ? `Turn ${at + 1} of ${path.turns.length}` : "Turn")
    const took = `${Math.max(0, Date.parse(turn.endedAt) - Date.parse(turn.startedAt))} ms`
    print(
      `  ${turn.outcome}${turn.handler ? ` by handler ${turn.handler}` : ""}, ${took}${turn.run > 1 ? `, run ${turn.run}` : ""}${turn.reason ? `: ${turn.reason}` : ""}`,
    )
    if (turn.interview) printInterview(turn.interview)
    for (const call of turn.elsewhere?.calls ?? []) printElsewhere(call)
    if (turn.elsewhere?.instead !== undefined)
      print(colors.yellow(`  the fallback was said: ${inLine(turn.elsewhere.instead, 300)}`))
    for (const { what, toChannel, toPlace, state, why, copy } of turn.relays ?? [])
      print(
        `  ${what}, relayed to ${inLine(toChannel, 40)} ${inLine(toPlace, 60)}: ${state}${why ? ` (${inLine(why, 200)})` : ""}${copy ? colors.dim(` ${copy}`) : ""}`,
      )
    for (const once of turn.onces) print(`  ${onceWords(once)}`)
    for (const { field, was, is } of changesOf(turn.stateBefore, turn.stateAfter))
      print(`  state ${inLine(field, 60)}: ${valueWords(was)} → ${valueWords(is)}`)
    if (turn.takenAs) print(`  taken as the choice ${turn.takenAs.label ?? ""} (${turn.takenAs.id})`)
    for (const line of turn.log ?? []) print(colors.dim(`  log: ${String(line)}`))
    if (turn.error?.stack)
      print(
        colors.red(
          turn.error.stack
            .split("\n")
            .map((line) => `  ${line}`)
            .join("\n"),
        ),
      )
    for (const note of turn.degraded ?? []) print(colors.yellow(`  ${note}`))
  })
  if (path.waiting) {
    const { kind, place, since, until, leasedBy, leasedUntil, calls } = path.waiting
    heading("Waiting")
    print(`  for an answer from the ${kind} ${inLine(place, 200)}, since ${clock(since)}, until ${clock(until)}`)
    if (leasedBy) print(`  held by ${inLine(leasedBy, 60)} until ${clock(leasedUntil!)}`)
    calls.forEach(printElsewhere)
  }
  for (const attempt of path.courtesies ?? []) printAttempt(attempt)
  for (const parked of path.parked) printParked(parked)
  for (const reply of path.replies) {
    heading("Reply")
    print(
      `  ${reply.message.text ? `“${inLine(reply.message.text, 200)}”` : `(${reply.message.event})`}`,
      colors.dim(`  ${reply.message.status}, ${reply.message.id}`),
    )
    for (const attempt of reply.attempts) printAttempt(attempt)
    if (reply.statuses.length > 0)
      print(
        `  reported since: ${reply.statuses
          .map((one) => `${one.status} ${clock(one.at)}${one.why ? ` (${one.why})` : ""}`)
          .join(", ")}`,
      )
    if (reply.attempts.length === 0) print(colors.dim("  no call has been made yet"))
    for (const parked of reply.parked) printParked(parked)
  }
}

function printDecision(path: PassagePath, all: boolean): void {
  if (path.decision.length === 0) return
  heading("Decision")
  const [first] = path.decision
  if (path.decision.length > 1 && path.decision.every((one) => one.why === first?.why)) {
    return print(colors.dim(`  the same for all ${path.decision.length} routes: ${first?.why}`))
  }
  const taken = path.decision.findIndex((one) => one.met)
  for (const one of taken > 0 && !all ? path.decision.slice(taken) : path.decision) {
    const slots = one.slots ? ` ${JSON.stringify(one.slots)}` : ""
    print(
      `  ${one.met ? colors.green("●") : colors.dim("○")} ${one.route.padEnd(18)} ${one.met ? wrapped(one.why + slots, 23) : colors.dim(wrapped(one.why, 23))}`,
    )
    // The routes after the first that is met were not looked at.
    if (one.met) break
  }
  if (taken > 0 && !all) print(colors.dim(`  ${counted(taken, "route")} before it did not take it: --routes says why`))
}

/** A call to an endpoint, or a lease. */
function printElsewhere(call: ElsewhereCallView): void {
  const { to, at, took, status, came, answer, by, tokens, cost, facts = [], tools = [] } = call
  const about = [
    status,
    took === undefined ? undefined : `${took} ms`,
    by && `by ${inLine(by, 60)}`,
    tokens && `${tokens.asked} + ${tokens.answered} tokens`,
    cost !== undefined && `cost ${cost.toFixed(6)}`,
  ].filter(Boolean)
  print(
    `  ${clock(at)} ${by ? "leased from" : "asked"} ${inLine(to, 120)} → ${inLine(came, 300)}${about.length > 0 ? ` (${about.join(", ")})` : ""}`,
  )
  if (facts.length > 0) print(colors.dim(`  with the facts: ${facts.map((fact) => inLine(fact, 100)).join("; ")}`))
  for (const { name, with: given, gave, log = [] } of tools) {
    print(colors.dim(`  it used ${inLine(name, 60)} with ${inLine(given, 120)} → ${inLine(gave, 200)}`))
    for (const line of log) print(colors.dim(`    it printed: ${inLine(line, 200)}`))
  }
  if (answer) print(colors.dim(`  it answered: ${inLine(answer, 300)}`))
}

function printAttempt(attempt: AttemptView): void {
  const took = attempt.endedAt ? `${Date.parse(attempt.endedAt) - Date.parse(attempt.startedAt)} ms` : "under way"
  const tint = attempt.outcome === "accepted" ? colors.green : attempt.outcome === null ? colors.yellow : colors.red
  const answer = [attempt.status, attempt.providerId && `id ${attempt.providerId}`].filter(Boolean).join(", ")
  print(
    `  ${clock(attempt.startedAt)} ${attempt.name} → ${tint(attempt.outcome ?? "no answer yet")}${answer ? ` (${answer})` : ""}, ${took}${attempt.why ? `: ${attempt.why}` : ""}`,
  )
}

function printParked(parked: PassagePath["parked"][number]): void {
  if (parked.decision) {
    print(
      `  parked (${parked.cause}): ${parked.reason}. ${parked.decidedBy ?? "somebody"} chose to ${parked.decision}.`,
    )
    return
  }
  print(
    colors.red(`  parked (${parked.cause}): ${parked.reason}.`),
    `  ${parked.remedy ?? ""}`,
    colors.dim(`  wobbet parked retry ${parked.id}  ·  wobbet parked drop ${parked.id}`),
  )
}

function heading(text: string): void {
  print("", colors.bold(text))
}

function pretty(body: string): string {
  try {
    return JSON.stringify(JSON.parse(body), null, 2)
  } catch {
    return body
  }
}
