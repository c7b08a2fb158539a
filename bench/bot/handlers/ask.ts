import { answer, interview } from "wobbet"

/** As many questions as anybody answers. */
export default interview(function* () {
  let sum = 0
  for (;;) sum += yield* answer.integer(`How many? So far ${sum}.`, { remind: false })
})
