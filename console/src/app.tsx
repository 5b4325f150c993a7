// The routes, in the job's order, and who may be on them.
import { createBrowserRouter, useRouteError } from "react-router";
import { Frame } from "./frame";
import { DevicePage } from "./pages/device";
import { DevicesPage } from "./pages/devices";
import { ExceptionPage } from "./pages/exception";
import { ExceptionsPage } from "./pages/exceptions";
import { ForecastPage } from "./pages/forecast";
import { IntakePage } from "./pages/intake";
import { KitsPage } from "./pages/kits";
import { LedgerPage } from "./pages/ledger";
import { OverviewPage } from "./pages/overview";
import { PeoplePage } from "./pages/people";
import { RequestPage } from "./pages/request";
import { SortingPage } from "./pages/sorting";
import { Trouble } from "./ui/parts";

function Failed() {
  return (
    <main className="p-6">
      <Trouble error={useRouteError()} />
    </main>
  );
}

function Nowhere() {
  return <p className="slab">There is no such page. Choose one on the left.</p>;
}

export const router = createBrowserRouter([
  {
    path: "/",
    Component: Frame,
    ErrorBoundary: Failed,
    children: [
      { index: true, Component: OverviewPage },
      { path: "readings", Component: IntakePage },
      { path: "devices", Component: DevicesPage },
      { path: "devices/:device", Component: DevicePage },
      { path: "sorting", Component: SortingPage },
      { path: "exceptions", Component: ExceptionsPage },
      { path: "exceptions/new", Component: RequestPage },
      { path: "exceptions/:exception", Component: ExceptionPage },
      { path: "kits", Component: KitsPage },
      { path: "kits/:kit", lazy: async () => ({ Component: (await import("./pages/kit")).KitPage }) },
      { path: "forecast", Component: ForecastPage },
      { path: "ledger", Component: LedgerPage },
      { path: "people", Component: PeoplePage },
      { path: "*", Component: Nowhere },
    ],
  },
]);
