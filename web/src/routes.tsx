import {
  createRootRoute,
  createRoute,
  createRouter,
  lazyRouteComponent,
  type RouteComponent,
  redirect,
} from "@tanstack/react-router";

import { Broken, NoSuchPage } from "./shell/Broken";

const root = createRootRoute({ component: lazyRouteComponent(() => import("./shell/Frame"), "Frame") });

/** What any room may have behind the question mark: how its list is filtered and sorted and how far back it goes, and the span of time that is seen. */
const ANYWHERE = ["filter", "sort", "span", "older"] as const;
type Anywhere = (typeof ANYWHERE)[number];

/** A room at its address; `keys` are what may stand behind the question mark, as plain text. */
const at = <const P extends string, const K extends string = never>(path: P, component: RouteComponent, ...keys: K[]) =>
  createRoute({
    getParentRoute: () => root,
    path,
    component,
    validateSearch: (given: Record<string, unknown>): { [key in K | Anywhere]?: string | undefined } =>
      Object.fromEntries(
        [...keys, ...ANYWHERE].filter((key) => given[key] !== undefined).map((key) => [key, String(given[key])]),
      ) as { [key in K | Anywhere]?: string | undefined },
  });

const routes = [
  createRoute({
    getParentRoute: () => root,
    path: "/",
    beforeLoad: () => {
      throw redirect({ to: "/diary" });
    },
  }),
  at(
    "/orders",
    lazyRouteComponent(() => import("./rooms/orders/Orders"), "Orders"),
    "line",
    "new",
    "question",
  ),
  at(
    "/orders/import",
    lazyRouteComponent(() => import("./rooms/orders/Import"), "Import"),
  ),
  at(
    "/orders/customers",
    lazyRouteComponent(() => import("./rooms/orders/Customers"), "Customers"),
    "name",
    "line",
  ),
  at(
    "/methods",
    lazyRouteComponent(() => import("./rooms/methods/Methods"), "Methods"),
    "kind",
    "row",
    "act",
    "name",
    "crop",
  ),
  at(
    "/places",
    lazyRouteComponent(() => import("./rooms/places/Places"), "Places"),
    "add",
    "weather",
  ),
  at(
    "/batches",
    lazyRouteComponent(() => import("./rooms/batches/Batches"), "Batches"),
    "view",
    "place",
    "level",
  ),
  at(
    "/batches/$id",
    lazyRouteComponent(() => import("./rooms/batches/Ladder"), "Ladder"),
    "do",
  ),
  at(
    "/sowing",
    lazyRouteComponent(() => import("./rooms/sowing/Sowing"), "Sowing"),
    "card",
    "later",
    "medium",
  ),
  at(
    "/stockplants",
    lazyRouteComponent(() => import("./rooms/stockplants/StockPlants"), "StockPlants"),
    "stock",
    "plan",
    "cut",
  ),
  at(
    "/stockplants/tubers",
    lazyRouteComponent(() => import("./rooms/stockplants/TuberStore"), "TuberStore"),
    "stack",
  ),
  at(
    "/seedcrops",
    lazyRouteComponent(() => import("./rooms/seedcrops/SeedCrops"), "SeedCrops"),
    "batch",
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
    "lot",
    "view",
  ),
  at(
    "/diary",
    lazyRouteComponent(() => import("./rooms/diary/Diary"), "Diary"),
    "day",
    "applied",
  ),
  at(
    "/deliveries",
    lazyRouteComponent(() => import("./rooms/deliveries/Deliveries"), "Deliveries"),
    "note",
    "line",
    "grade",
  ),
  at(
    "/house",
    lazyRouteComponent(() => import("./rooms/accounts/House"), "House"),
  ),
] as const;

// What stands in an address is plain text: a line's number is no JSON.
const plain = {
  parseSearch: (text: string) => Object.fromEntries(new URLSearchParams(text)),
  stringifySearch: (search: Record<string, unknown>) => {
    const given = Object.entries(search).flatMap(([key, value]) => (value === undefined ? [] : [[key, String(value)]]));
    return given.length ? `?${new URLSearchParams(given)}` : "";
  },
};

export const router = createRouter({
  routeTree: root.addChildren(routes),
  defaultPreload: "intent",
  defaultErrorComponent: Broken,
  defaultNotFoundComponent: NoSuchPage,
  ...plain,
});

declare module "@tanstack/react-router" {
  interface Register {
    router: typeof router;
  }
}
