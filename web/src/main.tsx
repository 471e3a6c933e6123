import { QueryClientProvider } from "@tanstack/react-query";
import { createRootRoute, createRoute, createRouter, Outlet, RouterProvider } from "@tanstack/react-router";
import { StrictMode } from "react";
import { createRoot } from "react-dom/client";
import { follow } from "./api/live";
import { BroughtSet } from "./pages/BroughtSet";
import { NewInstrument } from "./pages/NewInstrument";
import { Playing } from "./pages/Playing";
import { Sheet } from "./pages/Sheet";
import { Shelf } from "./pages/Shelf";
import { Together } from "./pages/Together";
import { Workshop } from "./pages/Workshop";
import { queries } from "./state/client";
import { bringOver } from "./state/kept";
import { player } from "./sound/player";
import { server } from "./sound/server";
import { Toast } from "./parts/Toast";
import { useSettings } from "./state/settings";
import { sayError } from "./state/view";
import "./theme.css";

const root = createRootRoute({ component: Page });
const routes = root.addChildren([
  createRoute({ getParentRoute: () => root, path: "/", component: Shelf }),
  createRoute({ getParentRoute: () => root, path: "/brought/$set", component: BroughtSet }),
  createRoute({ getParentRoute: () => root, path: "/new", component: NewInstrument }),
  createRoute({ getParentRoute: () => root, path: "/together", component: Together }),
  createRoute({ getParentRoute: () => root, path: "/instruments/$id/sheet", component: Sheet }),
  createRoute({ getParentRoute: () => root, path: "/instruments/$id/play", component: Playing }),
  createRoute({ getParentRoute: () => root, path: "/instruments/$id/$step", component: Workshop }),
]);
const router = createRouter({ routeTree: routes });

declare module "@tanstack/react-router" {
  interface Register {
    router: typeof router;
  }
}

function Page() {
  const { middleC, times } = useSettings();
  return (
    <>
      {/* What names keys and places is drawn anew, all of it. */}
      <Outlet key={`${middleC} ${times}`} />
      <Toast />
    </>
  );
}

follow(queries);
player.livesAt(server);
void bringOver().catch(sayError);
createRoot(document.getElementById("root")!).render(
  <StrictMode>
    <QueryClientProvider client={queries}>
      <RouterProvider router={router} />
    </QueryClientProvider>
  </StrictMode>,
);
