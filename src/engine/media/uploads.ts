import { createHash } from "node:crypto"
import type { ProviderAnswer, Upload } from "../../core/channels/call.ts"
import { kindOf } from "../../core/channels/registry.ts"
import type { Database } from "../../store/database.ts"
import { keepUpload, uploadedAs } from "../../store/media.ts"
import type { KnownChannel } from "../channels.ts"
import { perform } from "../calls/perform.ts"

/** Data of our own at the providers: brought there once a channel, and named again while the provider keeps it. */
export class Uploads {
  constructor(private readonly database: Database) {}

  /** How the provider names this, or the answer with which it refused it. */
  async ref(known: KnownChannel, upload: Upload): Promise<{ ref: string } | { answer: ProviderAnswer }> {
    const { uploading } = kindOf(known.row.kind)
    if (!uploading) return { answer: { failure: "this kind of channel takes no data of our own", sent: false } }
    const hash = createHash("sha256").update(upload.data).digest("hex")
    const named = { channel: known.row.key, hash, mime: upload.mime }
    const before = await uploadedAs(this.database, named)
    if (before !== undefined) return { ref: before }
    const answer = await perform(uploading.ask(upload, known.channel), known.channel, undefined)
    const brought = uploading.read(answer, upload)
    // An upload that failed says nothing to anybody: whatever became of it, it may simply be made again.
    if (!brought && "status" in answer && answer.status < 300)
      return { answer: { failure: "the answer to the upload cannot be read", sent: false } }
    if (!brought) return { answer: "failure" in answer ? { ...answer, sent: false } : answer }
    if (brought.then) {
      const sent = await perform(brought.then, known.channel, undefined)
      if ("failure" in sent) return { answer: { ...sent, sent: false } }
      if (sent.status >= 300) return { answer: sent }
    }
    // A little before the provider forgets it, it is brought again.
    if (brought.lasts > 0) await keepUpload(this.database, { ...named, ref: brought.ref, seconds: brought.lasts * 0.9 })
    return { ref: brought.ref }
  }
}
