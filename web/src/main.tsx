import { QueryClientProvider, useQuery } from "@tanstack/react-query";
import { lazyRouteComponent, RouterProvider } from "@tanstack/react-router";
import { setNonce } from "get-nonce";
import { StrictMode, Suspense, useRef } from "react";
import { createRoot } from "react-dom/client";
import { queryClient, sessionQuery } from "./api/queries";
import { router } from "./routes";
import { apply } from "./shell/prefs";
import { SetPassword } from "./shell/SetPassword";
import { SignIn } from "./shell/SignIn";
import "./theme.css";

apply();
setNonce(document.querySelector<HTMLMetaElement>('meta[name="csp-nonce"]')?.content ?? "");

const FirstRun = lazyRouteComponent(() => import("./shell/FirstRun"), "FirstRun");

const PERSON = "aldrip.person";

/** What is kept on this device for one person is not shown to the next. */
function mine(username: string) {
  if (localStorage.getItem(PERSON) === username) return;
  localStorage.setItem(PERSON, username);
  if ("caches" in window) void caches.delete("aldrip-data");
}

function App() {
  const { data, error } = useQuery(sessionQuery);
  const person = useRef(""); // who was signed in: the page stays under a session that has ended
  const link = /^\/password\/([\w.-]+)$/.exec(window.location.pathname)?.[1];
  if (error && !data) return <p className="p-6">The server does not answer. Reload the page in a moment.</p>;
  if (!data) return <p className="p-6 text-ink3">Fetching …</p>;
  if (link) return <SetPassword link={link} />;
  if (data.empty) return <FirstRun />;
  if (data.signed_in) {
    person.current = data.username;
    mine(data.username);
  }
  if (!person.current) return <SignIn />;
  return (
    <>
      <RouterProvider router={router} />
      {data.signed_in ? null : <SignIn again={person.current} />}
    </>
  );
}

// Over TLS, or on the machine itself, the page and what was last seen are kept for hours without a signal.
if ("serviceWorker" in navigator) void navigator.serviceWorker.register("/sw.js").catch(() => undefined);

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
