import type { Bell } from "../../store/bell.ts"
import type { Database } from "../../store/database.ts"
import { blockedContacts } from "../../store/tags.ts"

/** Who is blocked: few people, asked for with every turn, so each process remembers them all. */
export class Blocked {
  private contacts: ReadonlySet<string> = new Set()

  constructor(
    private readonly database: Database,
    bell: Bell,
  ) {
    bell.on("people", () => this.refresh().catch(() => undefined))
  }

  has(contact: string | null): boolean {
    return contact !== null && this.contacts.has(contact)
  }

  async refresh(): Promise<void> {
    this.contacts = new Set(await blockedContacts(this.database))
  }
}
