import type { DescribedExamples, WantedCalls } from "../../core/gateway/examples/described.ts"
import { NotAnExample } from "../../core/gateway/examples/request.ts"
import { NotDone, SideThread } from "../process/sideThread.ts"
import { Trouble } from "../trouble.ts"

export interface DocumentOrder {
  do: "describe"
  document: string
  wanted: WantedCalls
}

export type DocumentAnswer = { described: DescribedExamples } | { fault: string; remedy?: string }

/** Milliseconds a document may take. */
const patience = 10_000
/** Documents that may wait. */
const mostWaiting = 8

/** Reads gateways' OpenAPI documents in a thread of its own: whatever they hold, messages go on meanwhile. */
export class Documents {
  private readonly thread: SideThread<DocumentOrder, DocumentAnswer>

  /** @param script of the thread, as it was built */
  constructor(script: string) {
    this.thread = new SideThread(script, patience)
  }

  /** Throws a NotAnExample or a Trouble. */
  async describe(document: string, wanted: WantedCalls): Promise<DescribedExamples> {
    if (this.thread.waiting.length >= mostWaiting)
      throw new Trouble("too-many", "Too many documents are being read.", "Try again in a moment.", undefined, 5)
    const answer = await this.thread.ask({ do: "describe", document, wanted }).catch((error: unknown) => {
      if (!(error instanceof NotDone)) throw error
      throw new NotAnExample(
        `The document cannot be read: ${error.message}.`,
        "Give only the part of it with the calls that are wanted, or examples of requests.",
      )
    })
    if ("described" in answer) return answer.described
    if (answer.remedy !== undefined) throw new NotAnExample(answer.fault, answer.remedy)
    throw new Error(answer.fault)
  }

  close(): void {
    this.thread.close()
  }
}
