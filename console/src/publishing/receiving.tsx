import { publishingQueries } from "./calls";
import { bytes, count, moment } from "../ui/format";
import { Panel, Time, useQuery } from "../ui/parts";

/** Receiving says which versions are being published right now, or were left half done. */
export function Receiving({ repository }: { repository: string }) {
  const query = useQuery({
    ...publishingQueries.receiving(repository),
    refetchInterval: 5_000,
    retry: false,
  });
  const all = query.data ?? [];
  if (all.length === 0) return null;
  return (
    <Panel
      title="Being received"
      aside={<span className="text-xs text-soft">nobody but its publisher sees it yet</span>}
    >
      <ul>
        {all.map((r) => (
          <li key={r.purl + r.upload} className="border-b border-rule px-4 py-2 text-sm last:border-0">
            <span className="font-medium wrap-anywhere">{decodeURIComponent(r.purl.replace(/^pkg:/, ""))}</span>{" "}
            <span className="text-soft">
              {count(r.files, "file")}, {bytes(r.bytes)}, by {r.by}, the last <Time at={r.lastAt} />
            </span>
            <p>
              {r.lacks
                ? `It lacks ${r.lacks}, and is given up on ${moment(r.until)}.`
                : `It is listed on ${moment(r.until)}, if nothing more comes.`}
            </p>
          </li>
        ))}
      </ul>
    </Panel>
  );
}
