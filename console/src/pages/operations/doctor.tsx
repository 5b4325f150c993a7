// Check-up of the service, for administrators: what is well, what to look at, what to do.
import { api } from "../../api/api";
import { CheckboxField, Heading, Loaded, Scroll, useParam } from "../../ui/parts";

const LEVELS = {
  ok: { words: "well", style: "text-met" },
  look: { words: "look at it", style: "text-open" },
  wrong: { words: "wrong", style: "text-floor" },
} as const;

const WHOLE = {
  ok: "Everything is well.",
  look: "Something is to be looked at.",
  wrong: "Something is wrong.",
} as const;

export function DoctorPage() {
  const [deep, setDeep] = useParam("deep");
  const params = { query: { deep: deep === "1" } };
  const found = api.useQuery("get", "/api/v1/doctor", { params });
  return (
    <>
      <Heading title="Check-up">
        The service itself: its records, disk, history, imports, deliveries and rounds.
      </Heading>
      <div className="mb-3">
        <CheckboxField
          label="Read all records and the whole ledger as well (takes long on large ones)"
          checked={deep === "1"}
          set={(on) => setDeep(on ? "1" : "")}
        />
      </div>
      <Loaded of={found} what="the check-up">
        {(data) => (
          <>
            <p role="status" className={`mb-2 font-semibold ${LEVELS[data.level].style}`}>
              {WHOLE[data.level]}
            </p>
            <Scroll label="Checks" className="slab p-0 sm:p-0">
              <table className="w-full">
                <thead>
                  <tr className="[&>th]:px-3 [&>th]:py-2">
                    <th scope="col">What</th>
                    <th scope="col">How it is</th>
                    <th scope="col">In words</th>
                  </tr>
                </thead>
                <tbody>
                  {data.checks.map((check) => (
                    <tr key={check.name}>
                      <td className="cell">{check.name}</td>
                      <td className={`cell whitespace-nowrap font-semibold ${LEVELS[check.level].style}`}>
                        {LEVELS[check.level].words}
                      </td>
                      <td className="cell">
                        {check.words}
                        {check.hint && <span className="block text-sm text-ink-2">{check.hint}</span>}
                      </td>
                    </tr>
                  ))}
                </tbody>
              </table>
            </Scroll>
          </>
        )}
      </Loaded>
    </>
  );
}
