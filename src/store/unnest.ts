/** Records as a derived table of one statement: a batch costs one round trip, whatever its size. */
export interface Batch {
  sql: string
  values: Buffer[]
}

/**
 * @param columns name to PostgreSQL type; `jsonb` columns are written as JSON. Adds `ord`, the record's place from 1.
 *
 * Each column travels as an array in PostgreSQL's binary form (array_recv in its source), written here: as text, by the
 * driver, arrays took a fifth of our processor time for a batch of thirty; as text by ourselves a tenth, and PostgreSQL
 * a sixth of its own to read them. One JSON document for all cost it a fifth more than text.
 */
export function batch<Row extends object>(
  alias: string,
  records: readonly Row[],
  columns: { [K in keyof Row]-?: ColumnType },
): Batch {
  const names = Object.keys(columns) as (keyof Row & string)[]
  const casts = names.map((name) => `?::${columns[name]}[]`)
  return {
    sql: `unnest(${casts.join(", ")}) WITH ORDINALITY AS ${alias} (${names.map((name) => `"${name}"`).join(", ")}, ord)`,
    values: names.map((name) => arrayOf(records, name, columns[name])),
  }
}

/** The types a column may have, with the numbers PostgreSQL knows them by (pg_type.dat). */
const typeNumbers = {
  boolean: 16,
  bytea: 17,
  bigint: 20,
  integer: 23,
  text: 25,
  "double precision": 701,
  timestamptz: 1184,
  jsonb: 3802,
}
export type ColumnType = keyof typeof typeNumbers

/** Written into, then copied out of: grows to the largest array there was, up to a few megabytes. */
let page = Buffer.allocUnsafe(64 * 1024)
let end = 0

function arrayOf<Row extends object>(records: readonly Row[], name: keyof Row, type: ColumnType): Buffer {
  end = 0
  let nulls = 0
  room(20)
  page.writeInt32BE(typeNumbers[type], 8)
  page.writeInt32BE(records.length, 12)
  page.writeInt32BE(1, 16)
  end = 20
  for (const record of records) {
    const value = record[name] as unknown
    room(12)
    if (value === undefined || value === null) {
      nulls = 1
      end = page.writeInt32BE(-1, end)
    } else {
      const start = end
      end += 4
      write(value, type)
      page.writeInt32BE(end - start - 4, start)
    }
  }
  page.writeInt32BE(records.length > 0 ? 1 : 0, 0)
  page.writeInt32BE(nulls, 4)
  const array = Buffer.from(page.subarray(0, records.length > 0 ? end : 12))
  if (page.length > 4 * 1024 * 1024) page = Buffer.allocUnsafe(64 * 1024)
  return array
}

function write(value: unknown, type: ColumnType): void {
  switch (type) {
    case "text":
      return writeText(String(value))
    case "jsonb":
      // The version of the form that follows.
      page[end++] = 1
      return writeText(JSON.stringify(value))
    case "integer":
      end = page.writeInt32BE(Number(value), end)
      return
    case "bigint":
      return writeLong(Number(value))
    case "boolean":
      page[end++] = value === true ? 1 : 0
      return
    case "double precision":
      end = page.writeDoubleBE(Number(value), end)
      return
    case "timestamptz":
      return writeTime(String(value))
    case "bytea": {
      const bytes = value as Buffer
      room(bytes.length)
      end += bytes.copy(page, end)
    }
  }
}

function writeText(text: string): void {
  room(text.length * 3)
  const start = end
  // Short plain text, which is most of it, is written faster here than by a call out of JavaScript.
  if (text.length <= 64) {
    for (let at = 0; ; at++) {
      if (at === text.length) {
        end = start + at
        return
      }
      const code = text.charCodeAt(at)
      if (code > 127) break
      page[start + at] = code
    }
  }
  end = start + page.write(text, start, "utf8")
}

function writeLong(value: number): void {
  const high = Math.floor(value / 2 ** 32)
  end = page.writeInt32BE(high, end)
  end = page.writeUInt32BE(value - high * 2 ** 32, end)
}

/** PostgreSQL counts microseconds from the beginning of 2000. */
function writeTime(iso: string): void {
  const ms = Date.parse(iso)
  if (Number.isNaN(ms)) throw Object.assign(new RangeError(`"${iso}" is no time`), { code: "22007" })
  end = page.writeBigInt64BE(BigInt(ms - 946_684_800_000) * 1000n, end)
}

function room(bytes: number): void {
  if (end + bytes + 16 <= page.length) return
  const larger = Buffer.allocUnsafe(Math.max(page.length * 2, end + bytes + 16))
  page.copy(larger, 0, 0, end)
  page = larger
}
