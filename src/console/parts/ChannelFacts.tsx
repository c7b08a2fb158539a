import { shown } from "../../client/shown.ts"
import type { ChannelShown, Comparison } from "../../client/types.ts"
import { when } from "../time.ts"
import { Copy, Facts, Problem } from "./basics.tsx"
import { ByHand } from "./CheckList.tsx"
import { sentence } from "./Rail.tsx"

/** What is known of a channel on this side. */
export function Here({ channel }: { channel: ChannelShown }) {
  return (
    <div>
      <h3 className="mb-1 text-sm font-semibold">Here</h3>
      <Facts
        rows={[
          ["who", whoIs(channel)],
          ["", channel.identity?.remarks?.join(" ")],
          ["receives", receives(channel)],
          ["cannot", channel.cannot?.map(sentence).join(" ")],
          ["fields of calls", channel.fields?.join(", ")],
          ["extras", channel.extras?.map(({ name, says }) => `${name} (${says})`).join(", ")],
          [
            "bot",
            channel.release ? (
              `${channel.bot ?? "any"}, lane ${channel.lane}`
            ) : (
              <span key="bot" className="text-damson">
                Nobody answers: no bot {channel.bot ?? ""} is known on the lane {channel.lane}.
              </span>
            ),
          ],
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
          ["settings", settingsOf(channel)],
        ]}
      />
    </div>
  )
}

/** What its provider has on record, and whether that agrees. */
export function OnRecord({
  compared,
  error,
  channel,
}: {
  compared: Comparison | undefined
  error: Error | undefined
  channel: ChannelShown
}) {
  // There the address is the app's own, one for all of its accounts.
  const perApp = channel.kind === "whatsapp" || channel.kind === "messenger"
  const agrees = compared?.onRecord && !compared.fault && compared.differences.length === 0
  return (
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
                {shown(compared.onRecord.address ?? "") || (perApp ? "the app’s own, which it does not tell" : "none")}
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
      {compared?.byHand && compared.byHand.length > 0 ? (
        <ByHand values={compared.byHand} channel={channel.key} />
      ) : null}
      {agrees ? (
        <p className="mt-2 text-sm font-semibold">
          ●{" "}
          {compared.onRecord?.address || !perApp
            ? "Both sides agree."
            : "Everything that can be asked for is as it should be."}
        </p>
      ) : null}
      {compared?.differences.map((difference) => (
        <p key={difference} className="mt-2 border-l-4 border-damson bg-damson-wash px-4 py-2 text-sm text-damson">
          {shown(difference)}
        </p>
      ))}
      <Presence compared={compared} />
      {error ? <Problem error={error} /> : null}
    </div>
  )
}

/** What people see of the bot there, where it is not what its folder wants. */
function Presence({ compared }: { compared: Comparison | undefined }) {
  const { account } = compared ?? {}
  if (!account || (account.differences.length === 0 && !account.set && !account.fault)) return null
  return (
    <>
      <h3 className="mt-3 mb-1 text-sm font-semibold">What people see of the bot there</h3>
      {account.set ? <p className="text-sm">● Set just now: {account.set.join(", ")}.</p> : null}
      {account.fault ? <p className="text-sm text-damson">{sentence(account.fault)}</p> : null}
      <dl className="m-0 grid gap-1.5 text-sm">
        {account.differences.map(({ field, wanted, now, byHand }) => (
          <div key={field}>
            <dt className="text-quiet">{field}</dt>
            <dd className="m-0 [overflow-wrap:anywhere]">
              {wanted}
              <span className="text-quiet">
                {now === undefined ? "" : now === "" ? " (empty there)" : ` (there: ${shown(now)})`} –{" "}
                {byHand ? `set by a person: ${byHand}` : "connecting sets it"}
              </span>
            </dd>
          </div>
        ))}
      </dl>
    </>
  )
}

function whoIs({ identity }: ChannelShown): string {
  if (!identity) return "not checked yet"
  return [identity.name, identity.handle && `@${identity.handle}`, `id ${identity.id}`].filter(Boolean).join(", ")
}

function settingsOf({ settings }: ChannelShown): string {
  return Object.entries(settings)
    .map(([name, value]) => `${name} ${String(value)}`)
    .join(", ")
}

function receives(channel: ChannelShown): string {
  if (channel.cannot?.some((one) => one.startsWith("it only sends"))) return "nothing"
  if (channel.bringing) {
    const { by, taken, waiting } = channel.bringing
    return `for ${by}, who fetches its calls: ${taken} taken, ${waiting} waiting`
  }
  return channel.receives === "polling" ? "by asking the provider" : "by webhook"
}
