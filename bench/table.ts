import Table from "cli-table3"
import pc from "picocolors"
import { processorOf } from "./against.ts"
import type { ListTimes } from "./lists.ts"
import type { Results, Run, Share } from "./results.ts"

const style = { head: ["bold"], border: ["gray"], compact: true }

/** The middle one: a single bad round on a shared machine moves it little. */
export function median(values: number[]): number {
  const sorted = [...values].sort((a, b) => a - b)
  const half = sorted.length >> 1
  return sorted.length % 2 === 1 ? sorted[half]! : (sorted[half - 1]! + sorted[half]!) / 2
}

interface Line {
  figure: string
  baseline: string
  wobbet: string
  ratio: number
  aim: string
  met: boolean
}

/** The five figures, each as a ratio of medians. */
export function linesOf(results: Results): Line[] {
  const of = (runs: Run[], figure: "acknowledged" | "handled" | "p50" | "p99") => median(runs.map((run) => run[figure]))
  const { handwritten: base, wobbet, waiting, memory } = results
  const line = (figure: string, before: number, after: number, unit: string, aim: number, most: boolean): Line => ({
    figure,
    baseline: shown(before, unit),
    wobbet: shown(after, unit),
    ratio: after / before,
    aim: `${most ? "≤" : "≥"} ${aim}`,
    met: most ? after / before <= aim : after / before >= aim,
  })
  return [
    line("(a) calls acknowledged", of(base, "acknowledged"), of(wobbet, "acknowledged"), "/s", 3.5, false),
    line("(b) messages handled end to end", of(base, "handled"), of(wobbet, "handled"), "/s", 3.5, false),
    line("(c) call to provider call, p50", of(base, "p50"), of(wobbet, "p50"), "ms", 1, true),
    line("    the same, p99", of(base, "p99"), of(wobbet, "p99"), "ms", 1, true),
    line(
      `(d) as (b), beside ${thousands(waiting.conversations)} waiting`,
      median(waiting.without),
      median(waiting.with),
      "/s",
      0.9,
      false,
    ),
    line(`(e) memory, ${memory.after.map(thousands).join(" to ")} messages`, memory.few, memory.many, "MB", 1.2, true),
  ]
}

export function printTable(results: Results): void {
  const table = new Table({
    head: ["figure", "baseline", "Wobbet", "ratio", "aim", ""],
    style,
  })
  for (const { figure, baseline, wobbet, ratio, aim, met } of linesOf(results)) {
    const verdict = met ? pc.green("met") : pc.yellow("missed")
    table.push([figure, right(baseline), right(wobbet), right(`${ratio.toFixed(2)} ×`), `${aim} ×`, verdict])
  }
  const { machine, rounds, messages, atOnce } = results
  process.stdout.write(`${table.toString()}\n`)
  process.stdout.write(
    pc.dim(
      `Medians of ${rounds} rounds, taken in turn; ${machine}; ${thousands(messages)} messages, ${atOnce} calls at once.\n` +
        "Baseline: of (a) to (c) the hand-written bot's whole request, of (d) Wobbet with nobody waiting,\n" +
        "of (e) its memory before.\n",
    ),
  )
  const cost = new Table({
    head: ["processor time, ms a message", "service", "handler hosts", "PostgreSQL", "load and provider", "in all"],
    style,
  })
  for (const [name, runs] of [
    ["hand-written", results.handwritten],
    ["Wobbet", results.wobbet],
  ] as const) {
    const of = (part: keyof Share) => median(runs.map((run) => run.share[part]))
    const all = of("service") + of("hosts") + of("postgres") + of("load")
    cost.push([
      name,
      ...[of("service"), of("hosts"), of("postgres"), of("load"), all].map((one) => right(one.toFixed(2))),
    ])
  }
  process.stdout.write(`${cost.toString()}\n`)
  if (results.kinds) printKinds(results.kinds)
  if (results.forged) printForged(results.forged)
  if (results.worst) printWorst(results.worst)
  if (results.lists) printLists(results.lists)
  if (results.interviews) printInterviews(results.interviews)
  if (results.elsewhere) printElsewhere(results.elsewhere)
  if (results.phrases) printPhrases(results.phrases, results.dates ?? [])
}

/** Answers in interviews beside a handler that asks nothing. */
export function printInterviews(costs: NonNullable<Results["interviews"]>): void {
  const { baseline, early, late, cold, waiting, before, after } = costs
  const table = new Table({ head: ["handled a second", "", "beside a plain handler"], style })
  const plain = median(baseline)
  for (const [name, rates] of [
    ["a plain handler", baseline],
    ["an answer, questions 3 to 5", early],
    ["an answer, questions 48 to 50", late],
    ["an answer, from the journal", cold],
  ] as const)
    table.push([name, right(shown(median(rates), "/s")), right(`${(median(rates) / plain).toFixed(2)} ×`)])
  process.stdout.write(`${table.toString()}\n`)
  process.stdout.write(
    `The 50th question costs ${(median(early) / median(late)).toFixed(2)} × the 5th. ${thousands(waiting)} interviews that wait: the service went from ${Math.round(before)} to ${Math.round(after)} MB.\n`,
  )
}

/** This build beside that of another commit: both up at once, measured in turn, so that the ratios hold. */
export function printAgainst({ commit, now, then }: NonNullable<Results["against"]>): void {
  const table = new Table({ head: ["processor time a message", commit, "now", "ratio"], style })
  const line = (name: string, of: (figures: typeof now) => number[], unit: string) => {
    const [before, after] = [median(of(then)), median(of(now))]
    const pairs = of(now).map((value, round) => value / of(then)[round]!)
    table.push([
      name,
      right(shown(before, unit)),
      right(shown(after, unit)),
      right(`${(after / before).toFixed(2)} × (${Math.min(...pairs).toFixed(2)} to ${Math.max(...pairs).toFixed(2)})`),
    ])
  }
  line("under load", ({ share }) => share.map(processorOf), "ms")
  line("  of it the service", ({ share }) => share.map(({ service }) => service), "ms")
  line("  of it hosts", ({ share }) => share.map(({ hosts }) => hosts), "ms")
  line("  of it PostgreSQL", ({ share }) => share.map(({ postgres }) => postgres), "ms")
  line("one at a time", ({ calm }) => calm.map(processorOf), "ms")
  line("one at a time, call to provider call, p50", ({ p50 }) => p50, "ms")
  process.stdout.write(`${table.toString()}\n`)
}

/** Turns that a program elsewhere answers, beside a text of the bot's own. */
export function printElsewhere(costs: NonNullable<Results["elsewhere"]>): void {
  const { baseline, endpoint, alone, besideSlow, slow, slowMemory, besideQueue, queued, queueMemory } = costs
  const { model, models, besideModels } = costs
  const table = new Table({ head: ["", "", "beside a text of the bot's own"], style })
  const [plain, asked] = [median(baseline), median(endpoint)]
  table.push(
    ["a text of the bot's own", right(shown(plain, "/s")), right("1.00 ×")],
    ["an endpoint that answers at once", right(shown(asked, "/s")), right(`${(asked / plain).toFixed(2)} ×`)],
    ...(model
      ? [
          [
            "a model that answers at once",
            right(shown(median(model), "/s")),
            right(`${(median(model) / plain).toFixed(2)} ×`),
          ],
        ]
      : []),
    ["a text, half answered within", right(shown(alone, "ms")), right("1.00 ×")],
    [
      `the same beside ${thousands(slow)} endpoints of 5 s`,
      right(shown(besideSlow, "ms")),
      right(`${(besideSlow / alone).toFixed(2)} ×`),
    ],
    ...(models !== undefined && besideModels !== undefined
      ? [
          [
            `the same beside ${thousands(models)} models of 8 s`,
            right(shown(besideModels, "ms")),
            right(`${(besideModels / alone).toFixed(2)} ×`),
          ],
        ]
      : []),
    [
      `the same beside ${thousands(queued)} turns at a queue`,
      right(shown(besideQueue, "ms")),
      right(`${(besideQueue / alone).toFixed(2)} ×`),
    ],
  )
  process.stdout.write(`${table.toString()}\n`)
  const [before, during, after] = slowMemory.map(Math.round)
  const [empty, full] = queueMemory.map(Math.round)
  process.stdout.write(
    `The service's memory: ${before} MB, ${during} MB with ${thousands(slow)} slow calls, ${after} MB after them; ${empty} MB before and ${full} MB with ${thousands(queued)} turns at a queue.\n`,
  )
}

/** Routes whose phrases are one automaton, beside regular expressions that are tried one after the other. */
export function printPhrases(costs: NonNullable<Results["phrases"]>, dates: NonNullable<Results["dates"]>): void {
  const head = ["routes", "compile", "expressions", "ratio", "decide", "expressions", "ratio", "new text"]
  const table = new Table({ head, style })
  for (const { phrases, compile, compileBaseline, decide, decideBaseline, first } of costs)
    table.push([
      right(thousands(phrases)),
      right(shown(compile, "ms")),
      right(shown(compileBaseline, "ms")),
      right(`${(compile / compileBaseline).toFixed(1)} ×`),
      right(shown(decide, "µs")),
      right(shown(decideBaseline, "µs")),
      right(`${(decide / decideBaseline).toPrecision(2)} ×`),
      right(shown(first, "µs")),
    ])
  process.stdout.write(`${table.toString()}\n`)
  const [fewest, most] = [costs[0], costs.at(-1)]
  if (fewest && most) {
    const ratio = (most.decide / fewest.decide).toFixed(2)
    process.stdout.write(
      `A decision among ${thousands(most.phrases)} costs ${ratio} × one among ${thousands(fewest.phrases)}.\n`,
    )
  }
  for (const { languages, second, baseline } of dates)
    process.stdout.write(
      `Dates of ${thousands(second)} sentences a second in ${languages} ${languages === 1 ? "language" : "languages"}; the library alone, in one: ${thousands(baseline)} (${(second / baseline).toFixed(2)} ×).\n`,
    )
}

/** Every list with two records; twice the time of the small one, or 100 ms, is too much. */
export function printLists({ small, large, months, times }: ListTimes): void {
  const table = new Table({ head: ["list or search, p50", thousands(small), thousands(large), "ratio", ""], style })
  for (const { name, small: before, large: after } of times) {
    const good = after <= 100 && (after <= 2 * before || after <= 30)
    table.push([
      name,
      right(shown(before, "ms")),
      right(shown(after, "ms")),
      right(`${(after / before).toFixed(2)} ×`),
      good ? "" : pc.yellow("slow"),
    ])
  }
  process.stdout.write(`${table.toString()}\n`)
  process.stdout.write(
    pc.dim(
      `Messages over ${months} months, by HTTP, warm. Where the small record holds next to nothing of what is asked for and the\n` +
        "large one fills a page, the ratio is that of the rows shown.\n",
    ),
  )
}

/** Reading and rendering, and the whole way, by kind. */
export function printKinds({ rates, handled }: NonNullable<Results["kinds"]>): void {
  const table = new Table({
    head: [
      "kind",
      "verify + parse",
      "JSON.parse + HMAC",
      "ratio",
      "aim",
      "",
      "parts rendered",
      "end to end",
      "to telegram's",
      "aim",
      "",
    ],
    style,
  })
  const verdict = (met: boolean) => (met ? pc.green("met") : pc.yellow("missed"))
  const first = median(handled.telegram ?? [1])
  for (const { kind, read, readBase, rendered } of rates) {
    const whole = median(handled[kind] ?? [0])
    const ratio = read / readBase
    table.push([
      kind,
      right(`${thousands(Math.round(read))} /s`),
      right(`${thousands(Math.round(readBase))} /s`),
      right(`${ratio.toFixed(2)} ×`),
      "≥ 0.6 ×",
      verdict(ratio >= 0.6),
      right(`${thousands(Math.round(rendered))} /s`),
      right(`${thousands(Math.round(whole))} /s`),
      right(`${(whole / first).toFixed(2)} ×`),
      "≥ 0.8 ×",
      verdict(whole / first >= 0.8),
    ])
  }
  process.stdout.write(`${table.toString()}\n`)
}

/** What forged calls cost: each by itself, and a flood of them beside genuine messages. */
export function printForged({ search, floods }: NonNullable<Results["forged"]>): void {
  const verdict = (met: boolean) => (met ? pc.green("met") : pc.yellow("missed"))
  const times = new Table({ head: ["why a forged call was refused", "body", "p50", "p99", "aim", ""], style })
  for (const { kind, size, p50, p99 } of search)
    times.push([
      kind,
      right(`${thousands(size)} bytes`),
      right(`${p50.toFixed(2)} ms`),
      right(`${p99.toFixed(2)} ms`),
      "≤ 2 ms",
      verdict(p50 <= 2),
    ])
  process.stdout.write(`${times.toString()}\n`)
  const table = new Table({
    head: ["flood of forged calls", "alone", "beside it", "ratio", "aim", "", "forged", "kept", "on disk"],
    style,
  })
  for (const { perSecond, without, beside, forged, kept, bytes } of floods) {
    const ratio = median(beside) / median(without)
    table.push([
      `${perSecond} a second`,
      right(`${thousands(Math.round(median(without)))} /s`),
      right(`${thousands(Math.round(median(beside)))} /s`),
      right(`${ratio.toFixed(2)} ×`),
      "≥ 0.9 ×",
      verdict(ratio >= 0.9),
      right(thousands(forged)),
      right(thousands(kept)),
      right(`${thousands(Math.round(bytes / 1024))} kB`),
    ])
  }
  process.stdout.write(`${table.toString()}\n`)
}

/** What the worst input costs each reader, beside reading the same bytes as one text of JSON. */
export function printWorst(costs: NonNullable<Results["worst"]>): void {
  const table = new Table({
    head: ["the worst input for", "which", "bytes", "took", "a kilobyte", "JSON.parse", "ratio", "four times as much"],
    style,
  })
  for (const { reader, worst, bytes, took, baseline, growth } of costs)
    table.push([
      reader,
      worst,
      right(thousands(bytes)),
      right(`${took.toFixed(1)} ms`),
      right(`${(took / (bytes / 1024)).toFixed(3)} ms`),
      right(`${baseline.toFixed(1)} ms`),
      right(`${(took / baseline).toFixed(0)} ×`),
      right(`${growth.toFixed(1)} ×`),
    ])
  process.stdout.write(`${table.toString()}\n`)
}

function shown(value: number, unit: string): string {
  return `${value >= 100 ? Math.round(value) : value.toFixed(1)} ${unit}`
}

function thousands(value: number): string {
  return value.toLocaleString("en")
}

function right(text: string) {
  return { content: text, hAlign: "right" as const }
}
