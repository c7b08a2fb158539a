import { useState } from "react"
import type { ChannelShown } from "../../client/types.ts"
import { Agree } from "./Agree.tsx"
import { Button, Copy, Problem } from "./basics.tsx"
import { useData } from "../data.ts"
import { service } from "../service.ts"
import { clock } from "../time.ts"

/** Learning from one call how a gateway speaks: waiting, looking at the sample, agreeing. */
export function Learn({ channel, again }: { channel: ChannelShown; again: () => void }) {
  const learned = useData(
    `learned ${channel.key}`,
    () => service.learned(channel.key),
    ({ channels }) => channels,
  )
  const [error, setError] = useState<Error>()
  const act = (run: () => Promise<unknown>) => {
    setError(undefined)
    run()
      .catch(setError)
      .finally(() => {
        learned.again()
        again()
      })
  }
  const { data } = learned
  return (
    <section aria-label="Learning" className="mb-4 border border-line bg-mist p-3">
      {error ? <Problem error={error} /> : null}
      {data?.waiting ? (
        <div className="flex flex-wrap items-center gap-3 text-sm">
          <span className="under-way" aria-hidden="true">
            ◐
          </span>
          <span>
            Waiting for one call until {clock(data.waiting.until)}. Let the gateway send a message to{" "}
            <code className="font-mono text-xs">{data.inlet}</code>
          </span>
          <Copy text={data.inlet} what="the inlet's address" />
          <Button onClick={() => act(() => service.stopLearning(channel.key))}>Stop waiting</Button>
        </div>
      ) : null}
      {data && !data.waiting && !data.sample ? (
        <div className="flex flex-wrap items-center gap-3 text-sm">
          <span>
            {channel.settings.profile
              ? "It speaks by a profile; another can be learned from one call."
              : "Nothing is known yet of how this gateway speaks. One call of it is enough to propose a profile."}
          </span>
          <Button
            kind={channel.settings.profile ? "plain" : "main"}
            onClick={() => act(() => service.learn(channel.key))}
          >
            Learn from one call
          </Button>
        </div>
      ) : null}
      {data?.sample ? <Agree key={data.sample.at} channel={channel} sample={data.sample} act={act} /> : null}
    </section>
  )
}
