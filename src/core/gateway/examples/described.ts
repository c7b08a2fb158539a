import type { InboundCall } from "../../channels/call.ts"
import { sampleIn } from "../learn/sample.ts"
import type { DescribedCall } from "./openapi.ts"
import { callsIn, exampleOf, pick, readDocument, sampleOf } from "./openapi.ts"
import type { Sort } from "./propose.ts"
import { proposeCalls } from "./propose.ts"

/** Which calls of a document are meant, each by its name, its method and path, or its path alone. */
export interface WantedCalls {
  send?: string
  webhook?: string
  more: { operation: string; as: Sort }[]
}

/** What a document has to offer, and what the wanted calls seem to be. */
export interface DescribedExamples {
  offered: DescribedCall[]
  /** Not there where no call was picked. */
  picked?: ReturnType<typeof proposeCalls> & { sample?: InboundCall }
}

/** Reads an OpenAPI document, and proposes what the wanted calls of it mean. Throws a NotAnExample. */
export function describedBy(text: string, { send, webhook, more }: WantedCalls): DescribedExamples {
  const document = readDocument(text)
  const offered = callsIn(document)
  if (send === undefined && webhook === undefined) return { offered }
  const operation = (name: string, as: Sort) => ({ ...exampleOf(document, pick(document, name, "operation")), as })
  const examples = [
    ...(send === undefined ? [] : [operation(send, "send")]),
    ...more.map((one) => operation(one.operation, one.as)),
  ]
  const sample = webhook === undefined ? undefined : sampleIn(sampleOf(document, pick(document, webhook, "webhook")))
  return { offered, picked: { ...proposeCalls(examples), ...(sample ? { sample } : {}) } }
}
