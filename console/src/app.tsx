// The routes, in the job's order, and who may be on them.
import { createBrowserRouter, useRouteError } from "react-router";
import { Frame } from "./frame/frame";
import { DevicePage } from "./pages/devices/device";
import { DevicesPage } from "./pages/devices/devices";
import { DisputesPage } from "./pages/devices/disputes";
import { LivesPage } from "./pages/devices/lives";
import { UnplacedPage } from "./pages/devices/unplaced";
import { DuePage } from "./pages/due/due";
import { ExceptionPage } from "./pages/exceptions/exception";
import { ExceptionsPage } from "./pages/exceptions/exceptions";
import { RequestPage } from "./pages/exceptions/request";
import { UncoveredPage } from "./pages/exceptions/uncovered";
import { FixesPage } from "./pages/fixes/fixes";
import { FleetPage } from "./pages/fleet/fleet";
import { OverviewPage } from "./pages/fleet/overview";
import { BudgetPaperPage } from "./pages/forecast/budget-paper";
import { ForecastPage } from "./pages/forecast/forecast";
import { PlanPage } from "./pages/forecast/plan";
import { KitsPage } from "./pages/kits/kits";
import { LedgerPage } from "./pages/ledger/ledger";
import { MediaPage } from "./pages/media/media";
import { WebhooksPage } from "./pages/notifications/webhooks";
import { DoctorPage } from "./pages/operations/doctor";
import { MePage } from "./pages/people/me";
import { PeoplePage } from "./pages/people/people";
import { SheetsPage } from "./pages/platforms/sheets";
import { TasksPage } from "./pages/platforms/tasks";
import { IntakePage } from "./pages/readings/imports";
import { SortingPage } from "./pages/sorting/sorting";
import { ErrorMessage } from "./ui/parts";

function Failed() {
  return (
    <main className="p-6">
      <ErrorMessage error={useRouteError()} />
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
      { path: "unplaced", Component: UnplacedPage },
      { path: "lives", Component: LivesPage },
      { path: "tasks", Component: TasksPage },
      { path: "tasks/:task", Component: TasksPage },
      { path: "exceptions/new", Component: RequestPage },
      { path: "exceptions/:exception", Component: ExceptionPage },
      { path: "media", Component: MediaPage },
      { path: "kits", Component: KitsPage },
      { path: "kits/:kit", lazy: async () => ({ Component: (await import("./pages/kits/kit")).KitPage }) },
      { path: "forecast", Component: ForecastPage },
      { path: "plan", Component: PlanPage },
      { path: "budget-paper", Component: BudgetPaperPage },
      { path: "due", Component: DuePage },
      { path: "ledger", Component: LedgerPage },
      { path: "me", Component: MePage },
      { path: "doctor", Component: DoctorPage },
      { path: "webhooks", Component: WebhooksPage },
      { path: "people", Component: PeoplePage },
      { path: "*", Component: Nowhere },
    ],
  },
]);
