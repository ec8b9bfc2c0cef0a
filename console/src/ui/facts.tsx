import type { ReactNode } from "react";
import { Panel } from "./parts";

/** Facts are what is known of something, each with its name before it. */
export function Facts({ of }: { of: (readonly [string, ReactNode])[] }) {
  return (
    <Panel>
      <dl className="grid grid-cols-[7rem_1fr] gap-y-1 px-4 py-3 text-sm">
        {of.map(([name, fact]) => (
          <div key={name} className="contents">
            <dt className="text-soft">{name}</dt>
            <dd className="wrap-anywhere">{fact}</dd>
          </div>
        ))}
      </dl>
    </Panel>
  );
}
