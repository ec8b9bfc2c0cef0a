import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { StrictMode } from "react";
import { createRoot } from "react-dom/client";
import { BrowserRouter } from "react-router";
import { Failure } from "./api/client";
import { App } from "./app";
import "./design/tokens.css";
import { applyTheme } from "./ui/theme";

applyTheme();

const queries = new QueryClient({
  defaultOptions: {
    queries: {
      staleTime: 60_000,
      // A refusal stays one; only an unreachable or failing service may recover.
      retry: (n, error) => n < 3 && !(error instanceof Failure && error.status >= 400 && error.status < 500),
    },
  },
});

createRoot(document.getElementById("root")!).render(
  <StrictMode>
    <QueryClientProvider client={queries}>
      <BrowserRouter>
        <App />
      </BrowserRouter>
    </QueryClientProvider>
  </StrictMode>,
);
