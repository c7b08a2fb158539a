import type { JournalFileView } from "../../client/types.ts"
import type { ApiRoute } from "../routes.ts"
import { route } from "../routes.ts"

export const journalRoutes: ApiRoute[] = [
  route("GET /journal", {
    summary: "The files in which calls wait on local disk that their provider never repeats",
    role: "reader",
    answers:
      "The files of this process's data directory, the first first: what is whole in each, and what cannot be read.",
    handle: async ({ engine: { journal, self } }) => {
      const items: JournalFileView[] = []
      for (const file of await journal.files()) {
        const content = await journal.look(file)
        if (!content) continue
        const { entries, ...rest } = content
        const { name, state, writer } = file
        items.push({ file: name, state, writer, own: writer === self, calls: entries.length, ...rest })
      }
      return { items, next: null }
    },
  }),
  route("POST /journal/read", {
    summary: "Read in all files, also those that are kept because not all of them could be read",
    role: "operator",
    answers: "What came of each file. A call that was read in before is not kept a second time.",
    handle: async ({ engine }) => ({ items: await engine.readJournal(), next: null }),
  }),
]
