import { Component } from "react"
import type { ReactNode } from "react"
import { copy } from "../browser.ts"

interface Props {
  children: ReactNode
  /** What is tried again when this changes, such as the page's address. */
  at?: string
}

/** A fault in what is drawn takes only this part of the page, and says so. */
export class Boundary extends Component<Props, { error?: Error | undefined }> {
  override state: { error?: Error | undefined } = {}

  static getDerivedStateFromError(error: Error) {
    return { error }
  }

  override componentDidUpdate(before: Props): void {
    if (before.at !== this.props.at && this.state.error) this.setState({ error: undefined })
  }

  override render(): ReactNode {
    const { error } = this.state
    if (!error) return this.props.children
    return (
      <div role="alert" className="m-4 border-l-4 border-damson bg-damson-wash px-4 py-3 text-sm text-damson">
        <p className="font-semibold">This part of the page could not be drawn.</p>
        <p className="my-2 [overflow-wrap:anywhere]">
          {error.message} Nothing was lost: what was said is on record. Load the page again; if that does not help, tell
          us the fault.
        </p>
        <span className="flex gap-2">
          <button type="button" className="cursor-pointer underline" onClick={() => location.reload()}>
            Load the page again
          </button>
          <button
            type="button"
            className="cursor-pointer underline"
            onClick={() => void copy(error.stack ?? error.message)}
          >
            Copy the fault
          </button>
        </span>
      </div>
    )
  }
}
