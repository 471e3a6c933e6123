import { QueryClientProvider } from "@tanstack/react-query";
import { createRootRoute, createRoute, createRouter, Outlet, RouterProvider } from "@tanstack/react-router";
import { StrictMode, useEffect } from "react";
import { createRoot } from "react-dom/client";
import { follow } from "./api/live";
import { BroughtSet } from "./pages/BroughtSet";
import { NewInstrument } from "./pages/NewInstrument";
import { Sheet } from "./pages/Sheet";
import { Shelf } from "./pages/Shelf";
import { Workshop } from "./pages/Workshop";
import { queries } from "./state/client";
import { bringOver } from "./state/kept";
import { useSettings } from "./state/settings";
import { sayError, useView } from "./state/view";
import "./theme.css";

const root = createRootRoute({ component: Page });
const routes = root.addChildren([
  createRoute({ getParentRoute: () => root, path: "/", component: Shelf }),
  createRoute({ getParentRoute: () => root, path: "/brought/$set", component: BroughtSet }),
  createRoute({ getParentRoute: () => root, path: "/new", component: NewInstrument }),
  createRoute({ getParentRoute: () => root, path: "/instruments/$id/sheet", component: Sheet }),
  createRoute({ getParentRoute: () => root, path: "/instruments/$id/$step", component: Workshop }),
]);
const router = createRouter({ routeTree: routes });

declare module "@tanstack/react-router" {
  interface Register {
    router: typeof router;
  }
}

/** What was said last stands over the foot line of every page, for a few seconds, and covers no button. */
function Page() {
  const { toast, say } = useView();
  const { middleC, times } = useSettings();
  useEffect(() => {
    if (!toast) return undefined;
    const timer = setTimeout(() => say(undefined), 6000);
    return () => clearTimeout(timer);
  }, [toast, say]);
  return (
    <>
      {/* What names keys and places is drawn anew, all of it. */}
      <Outlet key={`${middleC} ${times}`} />
      <div aria-live="polite" className="pointer-events-none fixed inset-x-0 bottom-0.5 flex justify-center">
        {toast && (
          <button className="card pointer-events-auto max-w-3xl px-4 py-0.5 shadow-lg" data-part="toast" onClick={() => say(undefined)}>
            {toast}
          </button>
        )}
      </div>
    </>
  );
}

follow(queries);
void bringOver().catch(sayError);
createRoot(document.getElementById("root")!).render(
  <StrictMode>
    <QueryClientProvider client={queries}>
      <RouterProvider router={router} />
    </QueryClientProvider>
  </StrictMode>,
);
