const opening = /^\s*<(think|thinking|reasoning)>/
const mayOpen = /^\s*(<[a-z]{0,9})?$/

/**
 * What a model says, without what it thinks before: some servers give a model's thoughts as a part of its text, between
 * `<think>` and `</think>`. Work grows with what is added, not with what is there.
 */
export class Spoken {
  private all = ""
  /** Where its words begin, once that is known. */
  private from: number | undefined
  /** The tag that ends its thoughts, while they are not over. */
  private closing: string | undefined
  private looked = 0

  get text(): string {
    return this.from === undefined ? "" : this.all.slice(this.from)
  }

  /** Characters of all of it, thoughts too. */
  get length(): number {
    return this.all.length
  }

  add(piece: string): void {
    this.all += piece
    if (this.from === undefined) this.look()
  }

  /** Nothing more comes: what has only looked like thoughts to come is said. */
  end(): void {
    if (this.closing === undefined) this.from ??= 0
  }

  private look(): void {
    if (this.closing === undefined) {
      const tag = opening.exec(this.all)
      if (tag) {
        this.closing = `</${tag[1]}>`
        this.looked = tag[0].length
      } else if (!mayOpen.test(this.all.slice(0, longestLead))) this.from = 0
    }
    if (this.closing === undefined) return
    const at = this.all.indexOf(this.closing, this.looked)
    if (at !== -1) this.from = at + this.closing.length
    this.looked = Math.max(this.looked, this.all.length - this.closing.length)
  }
}

/** Characters before which thoughts begin, if there are any. */
const longestLead = 200
