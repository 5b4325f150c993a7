// The routes, in the job's order, and who may be on them.
import { createBrowserRouter, useRouteError } from "react-router";
import { Frame } from "./frame";
import { DevicePage } from "./pages/device";
import { DevicesPage } from "./pages/devices";
import { DisputesPage } from "./pages/disputes";
import { DuePage } from "./pages/due";
import { ExceptionPage } from "./pages/exception";
import { ExceptionsPage } from "./pages/exceptions";
import { FixesPage } from "./pages/fixes";
import { FleetPage } from "./pages/fleet";
import { ForecastPage } from "./pages/forecast";
import { HooksPage } from "./pages/hooks";
import { IntakePage } from "./pages/intake";
import { KitsPage } from "./pages/kits";
import { LedgerPage } from "./pages/ledger";
import { MePage } from "./pages/me";
import { MediaPage } from "./pages/media";
import { OverviewPage } from "./pages/overview";
import { PeoplePage } from "./pages/people";
import { PlanPage } from "./pages/plan";
import { RequestPage } from "./pages/request";
import { SheetsPage } from "./pages/sheets";
import { SortingPage } from "./pages/sorting";
import { UncoveredPage } from "./pages/uncovered";
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
      { path: "sheets", Component: SheetsPage },
      { path: "readings", Component: IntakePage },
      { path: "devices", Component: DevicesPage },
      { path: "devices/:device", Component: DevicePage },
      { path: "disputes", Component: DisputesPage },
      { path: "sorting", Component: SortingPage },
      { path: "fixes", Component: FixesPage },
      { path: "fleet", Component: FleetPage },
      { path: "exceptions", Component: ExceptionsPage },
      { path: "uncovered", Component: UncoveredPage },
      { path: "exceptions/new", Component: RequestPage },
      { path: "exceptions/:exception", Component: ExceptionPage },
      { path: "media", Component: MediaPage },
      { path: "kits", Component: KitsPage },
      { path: "kits/:kit", lazy: async () => ({ Component: (await import("./pages/kit")).KitPage }) },
      { path: "forecast", Component: ForecastPage },
      { path: "plan", Component: PlanPage },
      { path: "due", Component: DuePage },
      { path: "ledger", Component: LedgerPage },
      { path: "me", Component: MePage },
      { path: "hooks", Component: HooksPage },
      { path: "people", Component: PeoplePage },
      { path: "*", Component: Nowhere },
    ],
  },
]);
