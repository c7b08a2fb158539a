/** Records as a derived table of one statement: a batch costs one round trip, whatever its size. */
export interface Batch {
  sql: string
  values: unknown[]
}

/**
 * @param columns name to PostgreSQL type; `jsonb` columns are written as JSON. Adds `ord`, the record's place from 1.
 *
 * Each column travels as an array in PostgreSQL's own notation, written here: the driver's way of writing arrays, with
 * two regular expressions a value, took a fifth of our processor time for a batch of thirty. One JSON document for all
 * was as quick on our side, but cost PostgreSQL a fifth more than arrays do.
 */
export function batch<Row extends object>(
  alias: string,
  records: readonly Row[],
  columns: { [K in keyof Row]-?: string },
): Batch {
  const names = Object.keys(columns) as (keyof Row & string)[]
  const casts = names.map((name) => `?::${columns[name]}[]`)
  return {
    sql: `unnest(${casts.join(", ")}) WITH ORDINALITY AS ${alias} (${names.map((name) => `"${name}"`).join(", ")}, ord)`,
    values: names.map((name) => arrayOf(records, name, columns[name] === "jsonb")),
  }
}

function arrayOf<Row extends object>(records: readonly Row[], name: keyof Row, json: boolean): string {
  let literal = "{"
  for (let at = 0; at < records.length; at++) {
    const value = records[at]![name] as unknown
    if (at > 0) literal += ","
    if (value === undefined || value === null) literal += "NULL"
    else if (json) literal += quoted(JSON.stringify(value))
    else if (typeof value === "string") literal += quoted(value)
    else if (typeof value === "number" || typeof value === "boolean") literal += String(value)
    else if (Buffer.isBuffer(value)) literal += `"\\\\x${value.toString("hex")}"`
    else throw new TypeError(`A batch cannot hold ${typeof value} in its column ${String(name)}.`)
  }
  return `${literal}}`
}

function quoted(text: string): string {
  let plain = text
  if (plain.includes("\\")) plain = plain.replaceAll("\\", "\\\\")
  if (plain.includes('"')) plain = plain.replaceAll('"', '\\"')
  return `"${plain}"`
}
