// Choosing devices: a saved selection and conditions on top of it, all of them in the address.
import { useState } from "react";
import { api, client, useSend } from "../api/api";
import { allows, useHere } from "../frame/here";
import { STATE_NAMES, STATES } from "./mark";
import { Button, Choice, ErrorMessage, Labelled, useParam } from "./parts";

const CONDITIONS = ["selection", "state", "site", "role", "model"] as const;

/** What is chosen, and how to choose otherwise. */
export function useChosen() {
  const [selection, setSelection] = useParam("selection");
  const [state, setState] = useParam("state");
  const [site, setSite] = useParam("site");
  const [role, setRole] = useParam("role");
  const [model, setModel] = useParam("model");
  return {
    where: { selection, state, site, role, model },
    set: { selection: setSelection, state: setState, site: setSite, role: setRole, model: setModel },
  };
}

export function Chooser() {
  const { me, platform, release } = useHere();
  const { where, set } = useChosen();
  const query = { platform: platform.id, release, limit: 1 };
  const places = api.useQuery("get", "/api/v1/devices", { params: { query } }).data;
  const saved = api.useQuery("get", "/api/v1/selections").data?.items ?? [];
  const own = saved.filter((one) => one.platform === platform.id).map((one) => [one.name, one.name] as const);
  const pairs = (names: string[] | undefined) => (names ?? []).map((name) => [name, name] as const);
  const mayKeep = allows(me, "save_selection");
  const some = CONDITIONS.slice(1).some((name) => where[name]);
  return (
    <search className="slab grid gap-3 sm:grid-cols-2 lg:grid-cols-5">
      <Choice label="Selection" value={where.selection} set={set.selection} of={own} />
      <Choice label="State" value={where.state} set={set.state} of={STATE_NAMES.map((s) => [s, STATES[s].words])} />
      <Choice label="Site" value={where.site} set={set.site} of={pairs(places?.sites)} />
      <Choice label="Role" value={where.role} set={set.role} of={pairs(places?.roles)} />
      <Choice label="Model" value={where.model} set={set.model} of={pairs(places?.models)} />
      {mayKeep && some && !where.selection && <Keep where={where} />}
    </search>
  );
}

function Keep({ where }: { where: ReturnType<typeof useChosen>["where"] }) {
  const { platform } = useHere();
  const [name, setName] = useState("");
  const send = useSend(async () => {
    const { state, site, role, model } = where;
    const body = {
      platform: platform.id,
      release: "",
      where: { state, site, role, model, requirement: "", mark: "", words: "" },
    };
    await client.PUT("/api/v1/selections/{name}", { params: { path: { name } }, body });
  });
  return (
    <form
      className="flex flex-wrap items-end gap-3 sm:col-span-2 lg:col-span-5"
      onSubmit={(event) => {
        event.preventDefault();
        send.mutate();
      }}
    >
      <Labelled label="Save this choice as">
        <input
          className="field"
          value={name}
          maxLength={80}
          required
          onChange={(event) => setName(event.target.value)}
        />
      </Labelled>
      <Button quiet type="submit" disabled={send.isPending}>
        Save
      </Button>
      {send.isSuccess && (
        <span role="status" className="font-semibold text-met">
          Saved.
        </span>
      )}
      {send.error && <ErrorMessage error={send.error} />}
    </form>
  );
}
