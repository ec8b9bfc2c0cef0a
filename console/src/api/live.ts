import { useQueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";

/**
 * useLive brings what is shown up to date as changes happen on the server. It
 * tells whether the stream is open.
 */
export function useLive(): boolean {
  const queries = useQueryClient();
  const [open, setOpen] = useState(true);
  useEffect(() => {
    const source = new EventSource("/api/v1/live");
    let lost = false;
    source.onopen = () => {
      setOpen(true);
      // Whatever happened while the stream was cut was missed.
      if (lost) void queries.invalidateQueries();
      lost = false;
    };
    source.onerror = () => {
      lost = true;
      setOpen(false);
    };
    const changed = () => void queries.invalidateQueries();
    source.addEventListener("package", changed);
    source.addEventListener("repository", changed);
    source.addEventListener("access", changed);
    return () => source.close();
  }, [queries]);
  return open;
}
