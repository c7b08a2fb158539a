import { handler } from "wobbet"

/** The same as the hand-written bot does: remembers how often somebody wrote. */
export default handler(({ state }) => {
  const n = Number(state.n ?? 0) + 1
  return { replies: `count ${n}`, state: { n } }
})
