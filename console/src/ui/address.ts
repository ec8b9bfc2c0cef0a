import { useEffect, useState } from "react";
import { useLocation, useNavigationType, useSearchParams } from "react-router";

/** inAddress is the query of the page's address, as it is at this moment: what is drawn follows it later. */
export function inAddress() {
  return new URLSearchParams(window.location.search);
}

/**
 * useInAddress is a text that is typed and stands in the page's address. The address follows a little
 * later, and never takes letters back: the text follows it only where somebody went elsewhere.
 */
export function useInAddress(name: string): [text: string, set: (text: string) => void] {
  const [params, setParams] = useSearchParams();
  const { key, state } = useLocation() as { key: string; state: { typed?: boolean } | null };
  const went = useNavigationType() === "POP" || !state?.typed;
  const there = params.get(name) ?? "";
  const [text, setText] = useState(there);
  useEffect(() => {
    if (went) setText(there);
  }, [key, went, there]);
  return [
    text,
    (next) => {
      setText(next);
      const query = inAddress();
      if (next) query.set(name, next);
      else query.delete(name);
      setParams(query, { replace: true, state: { typed: true } });
    },
  ];
}
