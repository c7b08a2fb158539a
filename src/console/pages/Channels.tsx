import { useParams } from "react-router"
import { Empty, Problem } from "../parts/basics.tsx"
import { ChannelCard } from "../parts/ChannelCard.tsx"
import { service, useData } from "../service.ts"

export function Channels() {
  const { key } = useParams()
  const { data, error, again } = useData("channels", () => service.channels())
  const shown = key ? data?.items.filter((item) => item.key === key) : data?.items
  return (
    <div className="mx-auto flex w-full max-w-6xl flex-col gap-4 p-4">
      <h1 className="text-lg font-semibold">Channels</h1>
      {error ? <Problem error={error} /> : null}
      {shown?.map((channel) => (
        <ChannelCard key={channel.key} channel={channel} again={again} />
      ))}
      {shown?.length === 0 ? (
        <Empty>
          There is no such channel yet. Add one:{" "}
          <code className="font-mono">wobbet channel add telegram quay-telegram --secret token=…</code>
        </Empty>
      ) : null}
    </div>
  )
}
