import { isMap, isScalar, isSeq } from "yaml"
import { readYaml } from "../message/yaml.ts"
import { PhraseError, readPhrase } from "../phrase/read.ts"
import type { Bot } from "./bot.ts"
import type { Condition } from "./condition.ts"
import { phraseNodes } from "./phraseNodes.ts"

/**
 * A `bot.yaml` of the old form, in today's: `meets:` becomes `when:`, and its phrases are rewritten. All else stays as it
 * stands. Undefined where nothing is of the old form.
 */
export function rewriteBot(source: string): string | undefined {
  const read = readYaml(source)
  if ("faults" in read) return undefined
  const edits: { from: number; to: number; text: string }[] = []
  const replace = (node: unknown, text: string) => {
    if (isScalar(node) && node.range) edits.push({ from: node.range[0], to: node.range[1], text })
  }
  const phrase = (node: unknown) => {
    if (isSeq(node)) node.items.forEach(phrase)
    if (!isScalar(node) || typeof node.value !== "string") return
    const today = todayOf(node.value)
    if (today !== undefined) replace(node, JSON.stringify(today))
  }
  phraseNodes(read.document).forEach(phrase)
  const routes = read.document.get("routes", true)
  for (const route of isSeq(routes) ? routes.items : [])
    for (const { key } of isMap(route) ? route.items : [])
      if (isScalar(key) && key.value === "meets") replace(key, "when")
  if (edits.length === 0) return undefined
  return edits
    .sort((a, b) => b.from - a.from)
    .reduce((text, { from, to, text: by }) => text.slice(0, from) + by + text.slice(to), source)
}

/** A phrase of the old form in today's; undefined where it is of today's. */
function todayOf(source: string): string | undefined {
  try {
    readPhrase(source)
    return undefined
  } catch (error) {
    if (error instanceof PhraseError) return error.rewritten
    throw error
  }
}

type OldBot = Omit<Bot, "routes" | "zone" | "language" | "groups"> &
  Partial<Pick<Bot, "zone" | "language" | "groups">> & {
    routes: (Omit<Bot["routes"][number], "when"> & { when?: Condition; meets?: Condition })[]
  }

/** A bot as an earlier version kept it in a release, as it is read today. */
export function modernBot(bot: Bot | OldBot): Bot {
  const routes = bot.routes.map((route) => {
    const { meets, when, ...rest } = route as OldBot["routes"][number]
    return { ...rest, when: meets === undefined ? when! : modernCondition(meets) }
  })
  // Before there were rules for groups, a bot spoke in all of them.
  const groups = bot.groups ?? { otherwise: "always" }
  return { ...bot, zone: bot.zone ?? "UTC", language: bot.language ?? ["en"], groups, routes }
}

function modernCondition(condition: Condition): Condition {
  const { phrase, any, all, not, ...rest } = condition
  const today = (source: string) => todayOf(source) ?? source
  return {
    ...rest,
    ...(phrase === undefined ? {} : { phrase: Array.isArray(phrase) ? phrase.map(today) : today(phrase) }),
    ...(any ? { any: any.map(modernCondition) } : {}),
    ...(all ? { all: all.map(modernCondition) } : {}),
    ...(not ? { not: modernCondition(not) } : {}),
  }
}
