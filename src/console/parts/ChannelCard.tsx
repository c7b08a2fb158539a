import { useState } from "react"
import type { ReactNode } from "react"
import { Link } from "react-router"
import type { ChannelCheck, ChannelShown } from "../../client/types.ts"
import { useData } from "../data.ts"
import { problemText, service } from "../service.ts"
import { useMay } from "../visitor.ts"
import { Button } from "./basics.tsx"
import { Here, OnRecord } from "./ChannelFacts.tsx"
import { CheckList } from "./CheckList.tsx"
import { Learn } from "./Learn.tsx"
import { sentence } from "./Rail.tsx"

/** Does something with a channel and says what came of it; without words for that, only a failure is said. */
type Act = (run: () => Promise<unknown>, done?: string) => void

/** One channel: its state, what can be done with it, what is known here and what is on record at its provider. */
export function ChannelCard({ channel, again }: { channel: ChannelShown; again: () => void }) {
  const record = useData(
    `record ${channel.key} ${channel.receives}`,
    () => service.channelRecord(channel.key),
    // The provider is asked for it: not whenever somebody writes.
    ({ channels }) => channels,
  )
  const developer = useMay("developer")
  const operator = useMay("operator")
  const [said, setSaid] = useState<{ good: boolean; text: string }>()
  const [check, setCheck] = useState<ChannelCheck>()
  const [learning, setLearning] = useState(lacksProfile(channel))
  const act: Act = (run, done) => {
    run()
      .then(
        () => setSaid(done === undefined ? undefined : { good: true, text: done }),
        (error: Error) => setSaid({ good: false, text: problemText(error) }),
      )
      .finally(() => {
        again()
        record.again()
      })
  }
  return (
    <article aria-label={channel.key} className="border border-line bg-paper p-4">
      <header className="mb-3 flex flex-wrap items-center gap-x-4 gap-y-2">
        <h2 className="text-base font-semibold">{channel.key}</h2>
        <span className="text-sm text-quiet">{channel.kind}</span>
        <StateMark channel={channel} />
        <span className="ml-auto flex flex-wrap gap-2">
          {developer ? (
            <Button onClick={() => act(async () => setCheck(await service.checkChannel(channel.key)))}>Check</Button>
          ) : null}
          {developer && channel.gateway ? (
            <Button onClick={() => setLearning(!learning)}>{learning ? "Close learning" : "Learn"}</Button>
          ) : null}
          {developer ? (
            <Link
              to={`/channels/${channel.key}/try`}
              className="rounded-sm border border-edge bg-paper px-3 py-1.5 text-sm hover:border-spruce"
            >
              Try a call
            </Link>
          ) : null}
          <Actions channel={channel} act={act} developer={developer} operator={operator} />
        </span>
      </header>
      {channel.reason ? <Trouble>{`${sentence(channel.reason)} ${channel.remedy ?? ""}`}</Trouble> : null}
      {channel.polling ? <Trouble>{`${sentence(channel.polling.says)} ${channel.polling.remedy}`}</Trouble> : null}
      {said ? (
        <p className={`mb-3 text-sm ${said.good ? "" : "text-damson"}`} role="status">
          {said.text}
        </p>
      ) : null}
      {check ? <CheckList check={check} /> : null}
      {developer && (learning || channel.learning) ? <Learn channel={channel} again={again} /> : null}
      <div className="grid gap-x-8 gap-y-4 lg:grid-cols-2">
        <Here channel={channel} />
        <OnRecord compared={record.data} error={record.error} channel={channel} />
      </div>
    </article>
  )
}

function Actions({
  channel: { key, state, connects },
  act,
  developer,
  operator,
}: {
  channel: ChannelShown
  act: Act
  developer: boolean
  operator: boolean
}) {
  const connect = () => act(() => service.connectChannel(key), "Registered; what is on record is shown below.")
  const pause = () => act(() => service.pauseChannel(key), "Paused: what arrives waits; nothing is handled or sent.")
  const resume = () => act(() => service.resumeChannel(key), "Resumed: what waited is handled and sent.")
  const stateButton =
    state === "on" ? (
      <Button onClick={pause}>Pause</Button>
    ) : (
      <Button kind="main" onClick={resume}>
        Resume
      </Button>
    )
  return (
    <>
      {developer && connects ? <Button onClick={connect}>Connect</Button> : null}
      {operator ? stateButton : null}
    </>
  )
}

function Trouble({ children }: { children: ReactNode }) {
  return <p className="mb-3 border-l-4 border-damson bg-damson-wash px-4 py-2 text-sm text-damson">{children}</p>
}

function lacksProfile({ gateway }: ChannelShown): boolean {
  return gateway !== undefined && gateway.profile === undefined
}

function StateMark({ channel }: { channel: ChannelShown }) {
  if (channel.learning) return <span className="text-sm font-semibold">◐ learning</span>
  if (lacksProfile(channel)) return <span className="text-sm font-semibold">○ has no profile yet</span>
  if (channel.bringing && channel.state === "on")
    return <span className="text-sm font-semibold">◐ on, brought to {channel.bringing.by}</span>
  if (channel.state === "on" && !channel.polling) return <span className="text-sm">● on</span>
  const text = channel.state === "on" ? "on, but not receiving" : channel.state
  const sign = channel.state === "paused" ? "◐" : "✕"
  return (
    <span className={`text-sm font-semibold ${channel.state === "paused" ? "" : "text-damson"}`}>
      {sign} {text}
    </span>
  )
}
