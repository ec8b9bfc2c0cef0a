import { useQueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { type Change, kinds, useChanged } from "./query";

/**
 * gather is how long changes are gathered, and rest how long it is after a look until the
 * next one at the earliest, in milliseconds: while much is published, a page that is open
 * must not ask for all of it.
 */
const gather = 250;
const rest = 3000;

/**
 * useLive asks again for what changes on the server make out of date, and for
 * nothing else. It tells whether the stream is open. Browsers allow a server
 * few connections, so only a page that is looked at holds one.
 */
export function useLive(): boolean {
  const queries = useQueryClient();
  const changed = useChanged();
  const [open, setOpen] = useState(true);
  useEffect(() => {
    let source: EventSource | undefined;
    let missed = false;
    let heard: Change[] = [];
    let looked = 0;
    let pending: ReturnType<typeof setTimeout> | undefined;
    // Many changes at once, as a build makes them, ask for one look.
    const hear = (event: MessageEvent<string>) => {
      heard.push(JSON.parse(event.data) as Change);
      pending ??= setTimeout(
        () => {
          pending = undefined;
          looked = Date.now();
          void changed(...heard);
          heard = [];
        },
        Math.max(gather, looked + rest - Date.now()),
      );
    };
    const start = () => {
      if (source) return;
      source = new EventSource("/api/v1/live");
      source.onopen = () => {
        setOpen(true);
        // Whatever happened while there was no stream was missed.
        if (missed) void queries.invalidateQueries();
        missed = false;
      };
      source.onerror = () => {
        missed = true;
        setOpen(false);
      };
      for (const kind of kinds) source.addEventListener(kind, hear);
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
  }, [queries, changed]);
  return open;
}
