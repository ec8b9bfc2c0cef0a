import { useQueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";

/** gather is how long changes are gathered, in milliseconds. */
const gather = 250;

/**
 * useLive brings what is shown up to date as changes happen on the server. It
 * tells whether the stream is open. Browsers allow a server few connections,
 * so only a page that is looked at holds one.
 */
export function useLive(): boolean {
  const queries = useQueryClient();
  const [open, setOpen] = useState(true);
  useEffect(() => {
    let source: EventSource | undefined;
    let missed = false;
    let pending: ReturnType<typeof setTimeout> | undefined;
    // Many changes at once, as a build makes them, ask for one look.
    const changed = () => {
      pending ??= setTimeout(() => {
        pending = undefined;
        void queries.invalidateQueries();
      }, gather);
    };
    const start = () => {
      if (source) return;
      source = new EventSource("/api/v1/live");
      source.onopen = () => {
        setOpen(true);
        // Whatever happened while there was no stream was missed.
        if (missed) changed();
        missed = false;
      };
      source.onerror = () => {
        missed = true;
        setOpen(false);
      };
      for (const kind of [
        "package",
        "repository",
        "access",
        "mirror",
        "build",
        "track",
        "promotion",
        "policy",
        "sweep",
        "pin",
      ])
        source.addEventListener(kind, changed);
    };
    const stop = () => {
      source?.close();
      source = undefined;
      missed = true;
    };
    const look = () => (document.visibilityState === "visible" ? start() : stop());
    look();
    document.addEventListener("visibilitychange", look);
    addEventListener("pagehide", stop);
    addEventListener("pageshow", look);
    return () => {
      stop();
      clearTimeout(pending);
      document.removeEventListener("visibilitychange", look);
      removeEventListener("pagehide", stop);
      removeEventListener("pageshow", look);
    };
  }, [queries]);
  return open;
}
