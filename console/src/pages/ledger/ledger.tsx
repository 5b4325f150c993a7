import { useInfiniteQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, client } from "../../api/api";
import { Button, day, ErrorMessage, Heading, Loaded, More } from "../../ui/parts";
import { EvidencePack } from "./evidence";

export function LedgerPage() {
  const [asked, setAsked] = useState(false);
  const check = api.useQuery("get", "/api/v1/ledger/check", {}, { enabled: asked, gcTime: 0 });
  const found = useInfiniteQuery({
    queryKey: ["ledger"],
    initialPageParam: null as number | null,
    queryFn: async ({ pageParam }) => {
      const query = pageParam === null ? {} : { cursor: pageParam };
      const { data } = await client.GET("/api/v1/ledger", { params: { query } });
      if (!data) throw new Error("no page");
      return data;
    },
    getNextPageParam: (page) => (page.next === null ? null : Number(page.next)),
  });
  return (
    <>
      <Heading title="Ledger">Every decision, each bound to the one before it by its hash.</Heading>
      <EvidencePack />
      <div className="mb-3 flex flex-wrap items-center gap-3">
        <Button quiet disabled={check.isFetching} onClick={() => (asked ? check.refetch() : setAsked(true))}>
          Check every entry
        </Button>
        <p role="status" className={`font-semibold ${check.data?.ok === false ? "text-floor" : "text-met"}`}>
          {check.isFetching ? (
            <span className="text-ink-2">Checking the whole ledger against the records…</span>
          ) : (
            check.data && (check.data.ok ? `All ${check.data.entries} entries hold.` : check.data.faults.join("; "))
          )}
        </p>
      </div>
      {check.error && <ErrorMessage error={check.error} />}
      <Loaded of={found} what="the ledger">
        {(data) => (
          // biome-ignore lint/a11y/noNoninteractiveTabindex: a region that scrolls must be reachable
          <section className="slab relative overflow-x-auto p-0 sm:p-0" tabIndex={0} aria-label="Entries">
            <table className="w-full">
              <thead>
                <tr className="[&>th]:px-3 [&>th]:py-2">
                  <th scope="col">Entry</th>
                  <th scope="col">Day</th>
                  <th scope="col">What</th>
                  <th scope="col">Of</th>
                  <th scope="col">By</th>
                  <th scope="col">Hash</th>
                </tr>
              </thead>
              <tbody>
                {data.pages.flatMap((page) =>
                  page.items.map((entry) => (
                    <tr key={entry.seq}>
                      <td className="cell">{entry.seq}</td>
                      <td className="cell whitespace-nowrap">{day(entry.at)}</td>
                      <td className="cell">{entry.action}</td>
                      <td className="cell">{entry.object}</td>
                      <td className="cell">
                        {entry.actor}, {entry.via}
                      </td>
                      <td className="cell">
                        <code className="text-sm">{entry.hash.slice(0, 12)}</code>
                      </td>
                    </tr>
                  )),
                )}
              </tbody>
            </table>
          </section>
        )}
      </Loaded>
      <More of={found}>Earlier entries</More>
    </>
  );
}
