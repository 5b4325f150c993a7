import type { components } from "../../api/schema";

export type Detail = components["schemas"]["DeviceDetail"];
export type DeviceProps = { device: string; release: string };
