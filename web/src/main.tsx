import { notifyManager, QueryCache, QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { StrictMode } from "react";
import { createRoot } from "react-dom/client";
import { BrowserRouter } from "react-router";
import { App } from "./app";
import "./index.css";
import { tell } from "./shared/messages";

// what a click has changed, and that it is not answered yet, is drawn before the next click: no two go over one version
notifyManager.setScheduler(queueMicrotask);

const client = new QueryClient({
  // what no place on the screen tells when it cannot be had: `asked` says what it is
  queryCache: new QueryCache({
    onError: (error, query) => {
      if (query.meta?.asked) tell("error", `${query.meta.asked}: ${error.message}`);
    },
  }),
  defaultOptions: { queries: { staleTime: 5_000, retry: 1, refetchOnWindowFocus: false } },
});

// a click that asked the server and got no answer
window.addEventListener("unhandledrejection", ({ reason }) => {
  if (reason instanceof Error) tell("error", reason.message);
});

const root = document.getElementById("root");
if (root)
  createRoot(root).render(
    <StrictMode>
      <QueryClientProvider client={client}>
        <BrowserRouter>
          <App />
        </BrowserRouter>
      </QueryClientProvider>
    </StrictMode>,
  );
