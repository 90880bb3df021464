import { QueryClientProvider, useQuery } from "@tanstack/react-query";
import {
  createRootRoute,
  createRoute,
  createRouter,
  lazyRouteComponent,
  type RouteComponent,
  RouterProvider,
  redirect,
} from "@tanstack/react-router";
import { setNonce } from "get-nonce";
import { StrictMode, Suspense } from "react";
import { createRoot } from "react-dom/client";
import { queryClient, sessionQuery } from "./api/queries";
import { apply } from "./shell/prefs";
import { SignIn } from "./shell/SignIn";
import "./theme.css";

apply();
setNonce(document.querySelector<HTMLMetaElement>('meta[name="csp-nonce"]')?.content ?? "");

const root = createRootRoute({ component: lazyRouteComponent(() => import("./shell/Frame"), "Frame") });

type Search = Record<string, string | undefined>;
const search = (given: Record<string, unknown>): Search =>
  Object.fromEntries(
    Object.entries(given).map(([key, value]) => [key, value === undefined ? undefined : String(value)]),
  );

const at = (path: string, component: RouteComponent) =>
  createRoute({ getParentRoute: () => root, path, validateSearch: search, component });

const routes = [
  createRoute({
    getParentRoute: () => root,
    path: "/",
    beforeLoad: () => {
      throw redirect({ to: "/diary" as "/" });
    },
  }),
  at(
    "/orders",
    lazyRouteComponent(() => import("./rooms/orders/Orders"), "Orders"),
  ),
  at(
    "/orders/import",
    lazyRouteComponent(() => import("./rooms/orders/Import"), "Import"),
  ),
  at(
    "/orders/customers",
    lazyRouteComponent(() => import("./rooms/orders/Customers"), "Customers"),
  ),
  at(
    "/methods",
    lazyRouteComponent(() => import("./rooms/methods/Methods"), "Methods"),
  ),
  at(
    "/places",
    lazyRouteComponent(() => import("./rooms/places/Places"), "Places"),
  ),
  at(
    "/batches",
    lazyRouteComponent(() => import("./rooms/batches/Batches"), "Batches"),
  ),
  at(
    "/batches/$id",
    lazyRouteComponent(() => import("./rooms/batches/Ladder"), "Ladder"),
  ),
  at(
    "/sowing",
    lazyRouteComponent(() => import("./rooms/sowing/Sowing"), "Sowing"),
  ),
  at(
    "/seedcrops",
    lazyRouteComponent(() => import("./rooms/seedcrops/SeedCrops"), "SeedCrops"),
  ),
  at(
    "/seedcrops/$id",
    lazyRouteComponent(() => import("./rooms/seedcrops/Block"), "Block"),
  ),
  at(
    "/seedcrops/$id/isolation",
    lazyRouteComponent(() => import("./rooms/seedcrops/Isolation"), "Isolation"),
  ),
  at(
    "/seedcrops/$id/harvest",
    lazyRouteComponent(() => import("./rooms/seedcrops/Harvest"), "Harvest"),
  ),
  at(
    "/seedcrops/inspections/$id",
    lazyRouteComponent(() => import("./rooms/seedcrops/Inspection"), "Inspection"),
  ),
  at(
    "/lots",
    lazyRouteComponent(() => import("./rooms/lots/Lots"), "Lots"),
  ),
  at(
    "/diary",
    lazyRouteComponent(() => import("./rooms/diary/Diary"), "Diary"),
  ),
  at(
    "/deliveries",
    lazyRouteComponent(() => import("./rooms/deliveries/Deliveries"), "Deliveries"),
  ),
  at(
    "/house",
    lazyRouteComponent(() => import("./rooms/accounts/House"), "House"),
  ),
];

const router = createRouter({ routeTree: root.addChildren(routes), defaultPreload: "intent" });

const FirstRun = lazyRouteComponent(() => import("./shell/FirstRun"), "FirstRun");

function App() {
  const { data, error } = useQuery(sessionQuery);
  if (error) return <p className="p-6">The server does not answer. Reload the page in a moment.</p>;
  if (!data) return <p className="p-6 text-ink3">Fetching …</p>;
  if (data.empty) return <FirstRun />;
  return data.signed_in ? <RouterProvider router={router} /> : <SignIn />;
}

const place = document.getElementById("root");
if (place) {
  createRoot(place).render(
    <StrictMode>
      <QueryClientProvider client={queryClient}>
        <Suspense fallback={null}>
          <App />
        </Suspense>
      </QueryClientProvider>
    </StrictMode>,
  );
}
