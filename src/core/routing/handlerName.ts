/** A code handler's name (its file under `handlers/`), or what a handler of another kind needs, under that kind's name. */
export type HandlerName = string | { [name: string]: unknown }
