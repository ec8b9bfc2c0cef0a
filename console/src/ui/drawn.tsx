import { useVirtualizer, useWindowVirtualizer, type VirtualItem } from "@tanstack/react-virtual";
import { type RefObject, useLayoutEffect, useState } from "react";

/** few lines are all drawn: whoever searches in the page finds them. */
const few = 120;

/** Drawn says which lines of a long list are drawn, and how much room the others take. */
type Drawn = {
  lines: { index: number; bind: { "data-index": number; ref?: (node: Element | null) => void } }[];
  before: number;
  after: number;
  scrollTo: (index: number) => void;
};

/** useDrawn draws those lines of a list that are in sight; frame is what the lines stand in. estimate is the height of one. */
export function useDrawn(count: number, estimate: number, frame: RefObject<HTMLElement | null>): Drawn {
  const [top, setTop] = useState(0);
  useLayoutEffect(() => {
    if (count <= few || !frame.current) return;
    const now = Math.round(frame.current.getBoundingClientRect().top + window.scrollY);
    if (Math.abs(now - top) > 1) setTop(now);
  });
  const v = useWindowVirtualizer({
    count,
    estimateSize: () => estimate,
    overscan: 12,
    scrollMargin: top,
    enabled: count > few,
  });
  return drawn(count, v.getVirtualItems(), v.getTotalSize(), top, v.measureElement, v.scrollToIndex);
}

/** useDrawnIn is useDrawn for a list that scrolls by itself. */
export function useDrawnIn(count: number, estimate: number, scroller: RefObject<HTMLElement | null>): Drawn {
  const v = useVirtualizer({
    count,
    estimateSize: () => estimate,
    overscan: 12,
    getScrollElement: () => scroller.current,
    enabled: count > few,
  });
  return drawn(count, v.getVirtualItems(), v.getTotalSize(), 0, v.measureElement, v.scrollToIndex);
}

function drawn(
  count: number,
  items: VirtualItem[],
  size: number,
  top: number,
  measure: (node: Element | null) => void,
  scrollTo: (index: number, how: { align: "auto" }) => void,
): Drawn {
  if (count <= few) {
    return {
      lines: Array.from({ length: count }, (_, index) => ({ index, bind: { "data-index": index } })),
      before: 0,
      after: 0,
      scrollTo: () => undefined,
    };
  }
  const last = items.at(-1);
  return {
    lines: items.map((i) => ({ index: i.index, bind: { "data-index": i.index, ref: measure } })),
    before: (items[0]?.start ?? top) - top,
    after: last ? size - (last.end - top) : size,
    scrollTo: (index) => scrollTo(index, { align: "auto" }),
  };
}
