// The fixes of one device in order: after each, what is then met and what is no longer needed.
import { api } from "../api/api";
import { StateMark } from "../ui/mark";
import { Empty, Shown, Slab } from "../ui/parts";
import type { DeviceProps } from "./device";

export function FixesTab({ device, release }: DeviceProps) {
  const query = { params: { path: { device }, query: { release } } };
  const found = api.useQuery("get", "/api/v1/devices/{device}/fixes", query);
  return (
    <Shown of={found} what="the fixes">
      {(data) =>
        data.steps.length === 0 ? (
          <Empty>No fix applies to this device for {release}.</Empty>
        ) : (
          <Slab title={`${data.minutes} minutes, ${data.cost} for parts`}>
            <ol className="list-decimal space-y-2 pl-6">
              {data.steps.map((step) => (
                <li key={step.fix.title}>
                  <strong>{step.fix.title}</strong>{" "}
                  <span className="text-ink-2">
                    ({step.fix.minutes} min{Number(step.fix.cost) > 0 && `, ${step.fix.cost}`})
                  </span>
                  <span className="block">
                    {step.meets.length > 0 ? `Then met: ${step.meets.join(", ")}.` : "Opens the way for the next."}
                  </span>
                </li>
              ))}
            </ol>
            {data.spared.map((spared) => (
              <p key={`${spared.fix.title}${spared.requirement}`} className="mt-2 text-ink-2">
                Not needed: {spared.fix.title}. {spared.requirement} is met after “{spared.after}”.
              </p>
            ))}
            <p className="mt-3 flex flex-wrap items-center gap-2">
              Now <StateMark state={data.state} /> then <StateMark state={data.after} />
              {data.left.length > 0 && <span className="text-ink-2">No fix meets {data.left.join(", ")}.</span>}
            </p>
          </Slab>
        )
      }
    </Shown>
  );
}
