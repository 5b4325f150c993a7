import { api } from "../api/api";
import { Empty, Shown } from "../ui/parts";
import type { DeviceProps } from "./device";
import { ExceptionTable } from "./exceptions";

export function ExceptionsTab({ device }: DeviceProps) {
  const found = api.useQuery("get", "/api/v1/exceptions", { params: { query: { device } } });
  return (
    <Shown of={found} what="the exceptions">
      {(data) =>
        data.items.length ? <ExceptionTable items={data.items} /> : <Empty>No exception names this device.</Empty>
      }
    </Shown>
  );
}
