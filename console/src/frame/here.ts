import { useOutletContext } from "react-router";

import type { Platform, Session } from "../api/api";

/** What every page stands in: who looks, at which platform, towards which release. */
export type Here = { me: Session; platform: Platform; release: string };
export const useHere = () => useOutletContext<Here>();
