import { useState } from "react";
import { makeupQueries, type Side } from "./calls";
import { CompareWith } from "./compare-with";
import { Steps } from "./steps";
import { OneOf } from "../pointing/point";
import { bytes, count } from "../ui/format";
import { Button, ErrorNote, Panel, Time, useQuery } from "../ui/parts";

/** Layers shows what an image is made of, how it is to be run, and leads to what tells it from another. */
export function Layers({
  version,
  ecosystem,
  others,
}: {
  version: Side;
  ecosystem: string;
  others: (Side & { title: string })[];
}) {
  const [platform, setPlatform] = useState("");
  const [open, setOpen] = useState(false);
  const query = useQuery({ ...makeupQueries.makeup(version, platform), retry: false });
  const m = query.data;
  return (
    <Panel title="Layers" aside={<CompareWith version={version} others={others} />}>
      {query.error && (
        <div className="p-4">
          <ErrorNote error={query.error} retry={() => void query.refetch()} />
        </div>
      )}
      {m && (
        <>
          <div className="flex flex-wrap items-center justify-between gap-3 border-b border-rule px-4 py-2 text-sm">
            {m.platforms.length > 1 ? (
              <OneOf
                label="Platform"
                value={m.platform ?? ""}
                onChange={setPlatform}
                options={m.platforms.map((p) => [p, p])}
              />
            ) : (
              <span>{m.platform}</span>
            )}
            <span className="text-soft">
              {count(m.steps.filter((s) => s.layer).length, "layer")}, {bytes(m.bytes)}
              {m.made && (
                <>
                  , made <Time at={m.made} />
                </>
              )}
            </span>
          </div>
          <Steps name="Layers" steps={m.steps} ecosystem={ecosystem} />
          {m.settings.length > 0 && (
            <div className="border-t border-rule px-4 py-2 text-sm">
              <div className="flex items-center justify-between gap-3">
                <span className="text-soft">{count(m.settings.length, "setting")}: how it is to be run</span>
                <Button aria-expanded={open} onClick={() => setOpen(!open)}>
                  {open ? "Fold" : "Show settings"}
                </Button>
              </div>
              {open && (
                <dl className="mt-2 grid gap-x-4 gap-y-1 sm:grid-cols-[minmax(8rem,max-content)_1fr]">
                  {m.settings.map((s, i) => (
                    <div key={i} className="contents">
                      <dt className="text-soft wrap-anywhere">{s.name}</dt>
                      <dd className="font-mono text-xs leading-5 whitespace-pre-wrap wrap-anywhere">{s.value}</dd>
                    </div>
                  ))}
                </dl>
              )}
            </div>
          )}
        </>
      )}
    </Panel>
  );
}
