/** What a model is asked to do with a turn, as its handler says it: kept with the turn while it waits. */
export interface ModelOrder {
  /** The model, as `bot.yaml` names it. */
  name: string
  /** Filled in. */
  instructions: string
  /** Files of the bot. */
  facts: string[]
  tools: string[]
  /** Characters of its answer. */
  length: number
  /** Whether it may name only links that the facts hold. */
  links: boolean
  leave: boolean
  /** Whether its answer is shown growing. */
  stream: boolean
}
