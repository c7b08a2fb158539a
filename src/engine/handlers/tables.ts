import { LRUCache } from "lru-cache"
import type { Bot } from "../../core/routing/bot.ts"
import { RouteTable } from "../../core/routing/table.ts"

/** Large bots take seconds to compile: whoever looks at passages must not make the service do it each time. */
const tables = new LRUCache<string, RouteTable>({ max: 3 })

/** A release's routes, compiled once; its id is a hash of all that is in it. */
export function tableOf({ id, definition }: { id: string; definition: Bot }): RouteTable {
  let table = tables.get(id)
  if (!table) tables.set(id, (table = new RouteTable(definition)))
  return table
}
