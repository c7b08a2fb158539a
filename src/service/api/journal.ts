import Joi from "joi"
import type { JournalFileView } from "../../client/types.ts"
import type { ApiRoute } from "../routes.ts"
import { limit, page, route } from "../routes.ts"

export const journalRoutes: ApiRoute[] = [
  route("GET /journal", {
    summary: "The files in which calls wait on local disk that their provider never repeats",
    role: "reader",
    query: Joi.object({
      // Each of them is read to its end for this.
      limit: limit.max(20).default(20),
      cursor: Joi.string().max(300).description("the next of the page before"),
    }),
    answers:
      "A page of the files of this process's data directory, in their order: what is whole in each, and what cannot be read.",
    handle: async ({ engine: { journal, self }, query }) => {
      const { items: files, next } = page(
        (await journal.files(query.cursor)).slice(0, query.limit + 1),
        query.limit,
        (file) => file.name,
      )
      const items: JournalFileView[] = []
      for (const file of files) {
        const content = await journal.look(file)
        if (!content) continue
        const { entries, ...rest } = content
        const { name, state, writer } = file
        items.push({ file: name, state, writer, own: writer === self, calls: entries.length, ...rest })
      }
      return { items, next }
    },
  }),
  route("POST /journal/read", {
    summary: "Read in all files, also those that are kept because not all of them could be read",
    role: "operator",
    answers: "What came of each file. A call that was read in before is not kept a second time.",
    handle: async ({ engine }) => ({ items: await engine.readJournal(), next: null }),
  }),
]
