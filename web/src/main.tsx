import { QueryClientProvider, useQuery } from "@tanstack/react-query";
import { lazyRouteComponent, RouterProvider } from "@tanstack/react-router";
import { setNonce } from "get-nonce";
import { StrictMode, Suspense } from "react";
import { createRoot } from "react-dom/client";
import { queryClient, sessionQuery } from "./api/queries";
import { router } from "./routes";
import { apply } from "./shell/prefs";
import { SignIn } from "./shell/SignIn";
import "./theme.css";

apply();
setNonce(document.querySelector<HTMLMetaElement>('meta[name="csp-nonce"]')?.content ?? "");

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
