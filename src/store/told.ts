/** One row of what a statement tells, as the list of its values. */
export type ToldList = unknown[]

/** What a statement tells: its columns as SQL, and each one's value by its name. */
export interface Told<Row> {
  /** What stands behind SELECT. */
  sql: string
  of<Field extends keyof Row>(row: ToldList, field: Field): Row[Field]
}

/**
 * Describes what a statement tells by one list of columns, so that the SQL and the places of the values cannot drift
 * apart. Rows come as lists: the driver makes objects of more than some dozen fields in the form that JavaScript is
 * slowest with.
 */
export function tells<Row>(columns: { [Field in keyof Row]-?: string }): Told<Row> {
  const names = Object.keys(columns) as (keyof Row)[]
  const places = Object.fromEntries(names.map((name, at) => [name, at])) as { [Field in keyof Row]: number }
  return {
    sql: names.map((name) => columns[name]).join(", "),
    of: (row, field) => row[places[field]] as Row[typeof field],
  }
}
