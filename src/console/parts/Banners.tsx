import { Link } from "react-router"
import { useData } from "../data.ts"
import { service } from "../service.ts"
import { clock } from "../time.ts"

/** What every page says while it lasts. */
export function Banners() {
  return (
    <>
      <BotBanner />
      <ChannelsBanner />
    </>
  )
}

/** A bot folder with faults is shown on every page, with file, line and remedy. */
function BotBanner() {
  const { data } = useData(
    "bot",
    () => service.bot(),
    ({ bot }) => bot,
  )
  if (!data || data.faults.length === 0) return null
  return (
    <aside
      role="alert"
      aria-label="The bot folder"
      className="max-h-48 overflow-y-auto border-t border-damson bg-damson-wash px-4 py-2 text-sm text-damson"
      tabIndex={0}
    >
      <strong>The bot folder has faults.</strong>{" "}
      {data.release ? "The version before still answers." : "No bot answers until it is fixed."}
      <ul className="m-0 mt-1 list-none p-0">
        {data.faults.map((fault) => (
          <li key={`${fault.file}:${fault.line}:${fault.says}`}>
            <code className="font-mono">
              {[fault.file, fault.line, fault.column].filter((part) => part !== undefined).join(":")}
            </code>{" "}
            {fault.says}. {fault.remedy}
          </li>
        ))}
      </ul>
    </aside>
  )
}

/** A channel that learns, or whose calls are fetched from elsewhere, is said on every page while it lasts. */
function ChannelsBanner() {
  const { data } = useData(
    "channels",
    () => service.channels(),
    ({ channels }) => channels,
  )
  const special = data?.items.filter((item) => item.learning ?? item.bringing) ?? []
  if (special.length === 0) return null
  return (
    <aside
      role="status"
      aria-label="Channels that are not answered as usual"
      className="border-t border-line bg-spruce-wash px-4 py-1.5 text-sm"
    >
      {special.map(({ key, learning, bringing }) => (
        <p key={key}>
          ◐{" "}
          <Link to={`/channels/${key}`} className="font-semibold underline">
            {key}
          </Link>{" "}
          {learning
            ? `waits for a call to learn from, until ${clock(learning.until)} (begun by ${learning.by}): the next call is taken as a sample.`
            : `is not answered here: its calls are fetched by ${bringing!.by}, ${bringing!.waiting} wait.`}
        </p>
      ))}
    </aside>
  )
}
