/** Records as a derived table of one statement: a batch costs one round trip, whatever its size. */
export interface Batch {
  sql: string
  values: unknown[]
}

/**
 * @param columns name to PostgreSQL type; `jsonb` columns are written as JSON. Adds `ord`, the record's place from 1.
 */
export function batch<Row extends object>(
  alias: string,
  records: readonly Row[],
  columns: { [K in keyof Row]-?: string },
): Batch {
  const names = Object.keys(columns) as (keyof Row & string)[]
  const values = names.map((name) => {
    const json = columns[name] === "jsonb"
    return records.map((record) => {
      const value: unknown = record[name]
      if (value === undefined || value === null) return null
      return json ? JSON.stringify(value) : value
    })
  })
  const casts = names.map((name) => `?::${columns[name]}[]`)
  return {
    sql: `unnest(${casts.join(", ")}) WITH ORDINALITY AS ${alias} (${names.map((name) => `"${name}"`).join(", ")}, ord)`,
    values,
  }
}
