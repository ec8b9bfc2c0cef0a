import { useEffect, useRef } from "react";
import uPlot from "uplot";
import "uplot/dist/uPlot.min.css";

export type Series = { label: string; color: string; values: (number | null)[]; bars?: boolean };

/** variable reads a colour of the design tokens. */
const variable = (name: string) => getComputedStyle(document.documentElement).getPropertyValue(name).trim();

/**
 * Chart draws series over hours. Stacked bars are given from the top down: each
 * one's values include those that stand below it.
 */
export default function Chart({
  times,
  series,
  unit,
  label,
  binary,
}: {
  times: number[];
  series: Series[];
  unit: (n: number) => string;
  label: string;
  binary?: boolean;
}) {
  const box = useRef<HTMLDivElement>(null);
  useEffect(() => {
    const element = box.current;
    if (!element) return;
    const axis = {
      stroke: variable("--soft"),
      grid: { stroke: variable("--rule"), width: 1 },
      ticks: { show: false },
      font: "11px sans-serif",
    };
    const plot = new uPlot(
      {
        width: element.clientWidth,
        height: 150,
        padding: [8, 24, 0, 0],
        legend: { show: false },
        cursor: { y: false, points: { size: 6 } },
        scales: {
          x: { time: true, range: (_, min, max) => [min - pad(times), max + pad(times)] },
          y: { range: (_, __, max) => [0, max > 0 ? max * 1.1 : 1] },
        },
        axes: [
          {
            ...axis,
            size: 26,
            space: 56,
            grid: { show: false },
            values: (_, ticks) =>
              ticks.map((t) => (times.length > 48 || times[1]! - times[0]! > 43_200 ? day : hour).format(t * 1000)),
          },
          { ...axis, size: 64, values: (_, ticks) => ticks.map(unit), ...(binary ? { incrs: binaryIncrements } : {}) },
        ],
        series: [
          {},
          ...series.map((s) => ({
            label: s.label,
            stroke: variable(s.color),
            width: s.bars ? 0 : 2,
            points: { show: !s.bars && times.length < 3 },
            ...(s.bars ? { fill: variable(s.color), paths: uPlot.paths.bars!({ size: [0.7, 24] }) } : {}),
          })),
        ],
      },
      [times, ...series.map((s) => s.values)],
      element,
    );
    const resize = new ResizeObserver(() => plot.setSize({ width: element.clientWidth, height: 150 }));
    resize.observe(element);
    return () => {
      resize.disconnect();
      plot.destroy();
    };
  }, [times, series, unit, binary]);
  return <div ref={box} role="img" aria-label={label} className="h-[150px] w-full" />;
}

/** pad is the room beside the first and the last of some times, in seconds: half a bar's. */
const pad = (times: number[]) => (times.length > 1 ? (times[1]! - times[0]!) / 2 : 1800);

const hour = new Intl.DateTimeFormat("en-GB", { hour: "2-digit", minute: "2-digit" });
const day = new Intl.DateTimeFormat("en-GB", { day: "numeric", month: "short" });

/** binaryIncrements put the lines of a chart of bytes on round sizes. */
const binaryIncrements = Array.from({ length: 50 }, (_, i) => 2 ** i);
