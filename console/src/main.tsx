import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { StrictMode, Suspense, lazy } from "react";
import { createRoot } from "react-dom/client";
import { Problem } from "./api";
import { Router } from "wouter";
import { Door } from "./features/sign-in";
import "./index.css";
import { useGuardedLocation } from "./parts/unsaved";
import { setTheme, theme } from "./theme";

const client = new QueryClient({
  defaultOptions: {
    queries: {
      retry: (count, error) =>
        !(error instanceof Problem && error.status >= 400 && error.status < 500) && count < 2,
      staleTime: 5_000,
    },
  },
});
setTheme(theme());
/** All parts with their states on one page, in development: it needs no service. */
const Design =
  import.meta.env.DEV && location.pathname === "/design"
    ? lazy(() => import("./design").then((page) => ({ default: page.Design })))
    : null;
const root = document.getElementById("root");
if (root) {
  createRoot(root).render(
    <StrictMode>
      <QueryClientProvider client={client}>
        <Router hook={useGuardedLocation}>
          {Design ? (
            <Suspense>
              <Design />
            </Suspense>
          ) : (
            <Door />
          )}
        </Router>
      </QueryClientProvider>
    </StrictMode>,
  );
}
