/** One row of what a statement tells, as the list of its values. */
export type ToldList = unknown[]

/** What a statement tells: its columns as SQL, and where each one's value stands. */
export interface Told<Row> {
  /** What stands behind SELECT. */
  sql: string
  at: { readonly [Field in keyof Row]: number }
}

/**
 * Describes what a statement tells by one list of columns, so that the SQL and the places of the values cannot drift
 * apart. Rows come as lists, and are read as `row[told.at.name]`: the driver makes objects of more than some dozen
 * fields in the form that JavaScript is slowest with, and a function that takes the field's name took a fiftieth of a
 * busy service's time.
 */
export function tells<Row>(columns: { [Field in keyof Row]-?: string }): Told<Row> {
  const names = Object.keys(columns) as (keyof Row)[]
  const at = Object.fromEntries(names.map((name, place) => [name, place])) as { [Field in keyof Row]: number }
  return { sql: names.map((name) => columns[name]).join(", "), at }
}
