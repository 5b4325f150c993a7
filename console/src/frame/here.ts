import { useOutletContext } from "react-router";

import type { Platform, Session } from "../api/api";

/** What every page stands in: who looks, at which platform, towards which release. */
export type Here = { me: Session; platform: Platform; release: string };
export const useHere = () => useOutletContext<Here>();

/** Whether one may call an operation, as the service says: at a site, or anywhere at all. */
export const allows = (me: Session, operation: string, site?: string) =>
  site === undefined
    ? [me.may, ...Object.values(me.may_at)].some((names) => names.includes(operation))
    : (me.may_at[site] ?? me.may).includes(operation);
