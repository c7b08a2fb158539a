/** One operation of the API, as its description tells of it. */
export interface Operation {
  operationId: string
  description: string
  security?: object[]
  parameters?: { name: string; in: string; required?: boolean; schema: Schema }[]
  requestBody?: { content: { "application/json": { schema: Schema; example?: object } } }
  responses: { [status: string]: { $ref?: string; content?: { [type: string]: { schema: Schema } } } }
}
export interface Schema {
  type?: string | string[]
  enum?: unknown[]
  properties?: { [name: string]: Schema }
  [keyword: string]: unknown
}
/** The description of the API, as far as the tests read it. */
export interface Description {
  paths: { [path: string]: { [method: string]: Operation } }
  components: { schemas: { [name: string]: Schema } }
}

export const operationsOf = (description: Description) =>
  Object.entries(description.paths).flatMap(([path, methods]) =>
    Object.entries(methods).flatMap(([method, operation]) =>
      method === "parameters" ? [] : [{ path, method: method.toUpperCase(), operation }],
    ),
  )
