// Conditions to keep, as they are asked for: words that somebody attests, or a test of facts.
import { Button, Labelled } from "./parts";

export type AskedCondition = {
  text: string;
  fact_condition: Record<string, unknown> | null;
  due_on: string | null;
  every_days: number | null;
};

/** The tests that most are asked for; others come by the command line or the API. */
const TESTS = [
  ["", "somebody attests it"],
  ["disk.encrypted", "the disk is encrypted"],
  ["care.recovery_key_saved", "the recovery key is saved"],
  ["firmware.secure_boot", "Secure Boot is on"],
] as const;
const WANTED: Record<string, unknown> = { "firmware.secure_boot": "on" };

export function ConditionFields({ of, set }: { of: AskedCondition[]; set: (next: AskedCondition[]) => void }) {
  const change = (at: number, part: Partial<AskedCondition>) =>
    set(of.map((one, place) => (place === at ? { ...one, ...part } : one)));
  return (
    <fieldset className="grid gap-3">
      <legend className="mb-1 font-semibold">Conditions to keep</legend>
      {of.map((one, at) => {
        const fact = String(one.fact_condition?.fact ?? "");
        return (
          // biome-ignore lint/suspicious/noArrayIndexKey: the place is what is edited
          <div key={at} className="grid items-end gap-3 sm:grid-cols-[13rem_1fr_10rem_auto]">
            <Labelled label={`Condition ${at + 1}, kept when`}>
              <select
                className="field"
                value={fact}
                onChange={({ target: { value } }) =>
                  change(at, {
                    fact_condition: value ? { fact: value, is: WANTED[value] ?? true } : null,
                    text: "",
                    due_on: null,
                  })
                }
              >
                {TESTS.map(([name, words]) => (
                  <option key={name} value={name}>
                    {words}
                  </option>
                ))}
                {fact && !TESTS.some(([name]) => name === fact) && <option value={fact}>{fact} is as given</option>}
              </select>
            </Labelled>
            {one.fact_condition ? (
              <p className="self-center text-ink-2 sm:col-span-2">The readings show whether it is kept.</p>
            ) : (
              <>
                <Labelled label="What is to be kept">
                  <input
                    className="field"
                    required
                    value={one.text}
                    onChange={({ target }) => change(at, { text: target.value })}
                  />
                </Labelled>
                <Labelled label="Attested by">
                  <input
                    className="field"
                    type="date"
                    value={one.due_on ?? ""}
                    onChange={({ target }) => change(at, { due_on: target.value || null })}
                  />
                </Labelled>
              </>
            )}
            <Button quiet onClick={() => set(of.filter((_, place) => place !== at))}>
              Remove<span className="sr-only"> condition {at + 1}</span>
            </Button>
          </div>
        );
      })}
      <div>
        <Button quiet onClick={() => set([...of, { text: "", fact_condition: null, due_on: null, every_days: null }])}>
          Add a condition
        </Button>
      </div>
    </fieldset>
  );
}
