import { useState } from "react"
import { useParams } from "react-router"
import type { ChannelCheck, ChannelShown } from "../../client/types.ts"
import { Button, Copy, Empty, Facts, Problem } from "../parts/basics.tsx"
import { ByHand, CheckList } from "../parts/CheckList.tsx"
import { Learn } from "../parts/Learn.tsx"
import { sentence } from "../parts/Rail.tsx"
import { service, useData } from "../service.ts"
import { when } from "../time.ts"

export function Channels() {
  const { key } = useParams()
  const { data, error, again } = useData("channels", () => service.channels())
  const shown = key ? data?.items.filter((one) => one.key === key) : data?.items
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

function ChannelCard({ channel, again }: { channel: ChannelShown; again: () => void }) {
  const record = useData(`record ${channel.key} ${String(channel.settings.receive)}`, () =>
    service.channelRecord(channel.key),
  )
  const [said, setSaid] = useState<{ good: boolean; text: string }>()
  const [check, setCheck] = useState<ChannelCheck>()
  const [learning, setLearning] = useState(channel.kind === "custom" && !channel.settings.profile)
  const act = (run: () => Promise<unknown>, done?: string) => {
    run()
      .then(
        () => setSaid(done === undefined ? undefined : { good: true, text: done }),
        (error: Error & { remedy?: string }) =>
          setSaid({ good: false, text: `${error.message} ${error.remedy ?? ""}` }),
      )
      .finally(() => {
        again()
        record.again()
      })
  }
  const compared = record.data
  const agrees = compared?.onRecord && !compared.fault && compared.differences.length === 0
  return (
    <article className="border border-line bg-paper p-4">
      <header className="mb-3 flex flex-wrap items-center gap-x-4 gap-y-2">
        <h2 className="text-base font-semibold">{channel.key}</h2>
        <span className="text-sm text-quiet">{channel.kind}</span>
        <StateMark channel={channel} />
        <span className="ml-auto flex flex-wrap gap-2">
          <Button onClick={() => act(async () => setCheck(await service.checkChannel(channel.key)))}>Check</Button>
          {channel.kind === "custom" || channel.kind === "sms" ? (
            <Button onClick={() => setLearning(!learning)}>{learning ? "Close learning" : "Learn"}</Button>
          ) : null}
          <Button
            onClick={() =>
              act(() => service.connectChannel(channel.key), "Registered; what is on record is shown below.")
            }
          >
            Connect
          </Button>
          {channel.state === "on" ? (
            <Button
              onClick={() =>
                act(() => service.pauseChannel(channel.key), "Paused: messages are kept, nothing is handled or sent.")
              }
            >
              Pause
            </Button>
          ) : (
            <Button
              kind="main"
              onClick={() => act(() => service.resumeChannel(channel.key), "It goes on where it stood.")}
            >
              Resume
            </Button>
          )}
        </span>
      </header>
      {channel.reason ? (
        <p className="mb-3 border-l-4 border-damson bg-damson-wash px-4 py-2 text-sm text-damson">
          {sentence(channel.reason)} {channel.remedy}
        </p>
      ) : null}
      {channel.polling ? (
        <p className="mb-3 border-l-4 border-damson bg-damson-wash px-4 py-2 text-sm text-damson">
          {sentence(channel.polling.says)} {channel.polling.remedy}
        </p>
      ) : null}
      {said ? (
        <p className={`mb-3 text-sm ${said.good ? "" : "text-damson"}`} role="status">
          {said.text}
        </p>
      ) : null}
      {check ? <CheckList check={check} /> : null}
      {learning || channel.learning ? <Learn channel={channel} again={again} /> : null}
      <div className="grid gap-x-8 gap-y-4 lg:grid-cols-2">
        <div>
          <h3 className="mb-1 text-sm font-semibold">Here</h3>
          <Facts
            rows={[
              [
                "who",
                channel.identity
                  ? [
                      channel.identity.name,
                      channel.identity.handle && `@${channel.identity.handle}`,
                      `id ${channel.identity.id}`,
                    ]
                      .filter(Boolean)
                      .join(", ")
                  : "not checked yet",
              ],
              ["", channel.identity?.remarks?.join(" ")],
              ["receives", receives(channel)],
              [
                "inlet",
                <span key="inlet" className="flex flex-wrap items-center gap-2">
                  <code className="font-mono text-xs">{channel.inlet}</code>
                  <Copy text={channel.inlet} what="the inlet's address" />
                </span>,
              ],
              ["last genuine call", when(channel.lastGenuine)],
              ["last refused call", when(channel.lastRefused)],
              ["secrets", `${channel.secrets.join(", ")} (sealed)`],
              [
                "settings",
                Object.entries(channel.settings)
                  .map(([name, value]) => `${name} ${String(value)}`)
                  .join(", "),
              ],
            ]}
          />
        </div>
        <div>
          <h3 className="mb-1 text-sm font-semibold">On record at the provider</h3>
          {compared?.fault ? (
            <p className="text-sm text-damson">
              {sentence(compared.fault.says)} {compared.fault.remedy}
            </p>
          ) : null}
          {compared?.onRecord ? (
            <Facts
              rows={[
                [
                  "address",
                  <code key="address" className="font-mono text-xs">
                    {compared.onRecord.address ?? (compared.byHand ? "the app’s own, which it does not tell" : "none")}
                  </code>,
                ],
                ["waiting there", compared.onRecord.waiting],
                [
                  "its last failure",
                  compared.onRecord.lastError
                    ? `${compared.onRecord.lastError.says} ${compared.onRecord.lastError.at ? `(${when(compared.onRecord.lastError.at)})` : ""}`
                    : undefined,
                ],
                ["connections", compared.onRecord.connections],
                ["sends", compared.onRecord.events?.join(", ")],
              ]}
            />
          ) : null}
          {compared && !compared.onRecord && !compared.fault ? (
            <p className="text-sm text-quiet">The provider does not tell what it has on record.</p>
          ) : null}
          {compared?.byHand && compared.byHand.length > 0 ? <ByHand values={compared.byHand} /> : null}
          {agrees ? (
            <p className="mt-2 text-sm font-semibold">
              ●{" "}
              {compared.onRecord?.address || !compared.byHand
                ? "Both sides agree."
                : "Everything that can be asked for is as it should be."}
            </p>
          ) : null}
          {compared?.differences.map((difference) => (
            <p key={difference} className="mt-2 border-l-4 border-damson bg-damson-wash px-4 py-2 text-sm text-damson">
              {difference}
            </p>
          ))}
          {record.error ? <Problem error={record.error} /> : null}
        </div>
      </div>
    </article>
  )
}

function receives(channel: ChannelShown): string {
  if (channel.bringing) {
    const { by, taken, waiting } = channel.bringing
    return `for ${by}, who fetches its calls: ${taken} taken, ${waiting} waiting`
  }
  return channel.receives === "polling" ? "by asking the provider" : "by webhook"
}

function StateMark({ channel }: { channel: ChannelShown }) {
  if (channel.learning) return <span className="text-sm font-semibold">◐ learning</span>
  if (channel.kind === "custom" && !channel.settings.profile)
    return <span className="text-sm font-semibold">○ has no profile yet</span>
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
