import { useState } from "react"
import { useNavigate, useParams } from "react-router"
import { useData } from "../data.ts"
import { Button, Empty, Problem } from "../parts/basics.tsx"
import { ChannelCard } from "../parts/ChannelCard.tsx"
import { NewChannel } from "../parts/NewChannel.tsx"
import { service } from "../service.ts"
import { useMay, useTitle } from "../visitor.ts"

export function Channels() {
  const { key } = useParams()
  const navigate = useNavigate()
  const developer = useMay("developer")
  const [adding, setAdding] = useState(false)
  const { data, error, again } = useData("channels", () => service.channels())
  const shown = key ? data?.items.filter((item) => item.key === key) : data?.items
  useTitle(key ?? "Channels")
  return (
    <div className="mx-auto flex w-full max-w-6xl flex-col gap-4 p-4">
      <div className="flex flex-wrap items-center gap-3">
        <h1 className="text-lg font-semibold">{key ?? "Channels"}</h1>
        {key ? <Button onClick={() => void navigate("/channels")}>All channels</Button> : null}
        {developer && !adding ? <Button onClick={() => setAdding(true)}>Add a channel</Button> : null}
      </div>
      {adding ? (
        <NewChannel
          close={() => setAdding(false)}
          added={(made) => {
            setAdding(false)
            again()
            void navigate(`/channels/${made}`)
          }}
        />
      ) : null}
      {error ? <Problem error={error} /> : null}
      {shown?.map((channel) => (
        <ChannelCard key={channel.key} channel={channel} again={again} />
      ))}
      {shown?.length === 0 && !adding ? (
        <Empty>
          {key ? `There is no channel ${key}.` : "There is no channel yet."}{" "}
          {developer ? "Add one with the button above." : "Ask a developer to add one."}
        </Empty>
      ) : null}
    </div>
  )
}
