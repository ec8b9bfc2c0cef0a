import { searchQueries } from "./calls";
import { shortVersion } from "../ui/format";
import { Panel, Time, useQuery } from "../ui/parts";
import { Table } from "../ui/table";

/** Moves tells where the labels of a version pointed, one time after the other. */
export function Moves({
  purl,
  repository,
  version,
  onChoose,
}: {
  purl: string;
  repository: string;
  version: string;
  onChoose: (version: string) => void;
}) {
  const query = useQuery({ ...searchQueries.labelMoves(purl, repository), retry: false });
  if (!query.data?.length) return null;
  const named = (of: string) =>
    of === version ? (
      <span className="font-mono text-xs">this one</span>
    ) : (
      <button
        type="button"
        onClick={() => onChoose(of)}
        className="inline-flex min-h-6 cursor-pointer items-center font-mono text-xs text-deep underline"
      >
        {shortVersion(of)}
      </button>
    );
  return (
    <Panel title="Label history" aside={<span className="text-xs text-soft">the newest first</span>}>
      <Table
        name="Label history"
        dense
        rows={query.data}
        rowKey={(m) => m.label + m.at}
        columns={[
          { head: "Label", by: (m) => m.label, look: "font-mono text-xs", cell: (m) => m.label },
          {
            head: "Moved",
            cell: (m) => (
              <>
                {m.before && <>{named(m.before)} → </>}
                {named(m.version)}
              </>
            ),
          },
          { head: "By", by: (m) => m.by, cell: (m) => m.by },
          { head: "Since", by: (m) => m.at, right: true, cell: (m) => <Time at={m.at} /> },
          {
            head: "Until",
            by: (m) => m.until,
            right: true,
            cell: (m) => (m.until ? <Time at={m.until} /> : <span className="text-soft">it is there</span>),
          },
        ]}
      />
    </Panel>
  );
}
