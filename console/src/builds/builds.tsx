import { useInfiniteQuery, useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { type Schemas } from "../api/client";
import { useChanged } from "../api/query";
import { buildsCalls, buildsQueries } from "./calls";
import { rightsQueries } from "../rights/calls";
import { Dialog, TextInput } from "../ui/dialog";
import { More } from "../ui/filters";
import { buildPath, count } from "../ui/format";
import { Button, Empty, ErrorNote, Loaded, Panel, Time, usePageTitle, useQuery } from "../ui/parts";
import { type Column, Table } from "../ui/table";
import { Picker } from "../ui/combobox";

/** testsText says how the tests of a build went. */
export function testsText(b: Schemas["Build"]): [string, string] {
  if (!b.endedAt) return ["it runs", "text-glow"];
  const t = b.tests;
  if (!t) return ["no tests reported", "text-soft"];
  const bad = t.failed + t.errors;
  return bad > 0
    ? [`${bad} of ${count(t.tests, "test")} failed`, "text-bad"]
    : [`${count(t.tests, "test")} passed`, "text-good"];
}

const buildColumns: Column<Schemas["Build"]>[] = [
  {
    head: "Build",
    by: (b) => `${b.name}#${b.number}`,
    cell: (b) => (
      <Link data-row to={buildPath(`${b.name}#${b.number}`)} className="font-medium">
        {b.name}#{b.number}
      </Link>
    ),
  },
  {
    head: "Tests",
    look: "whitespace-nowrap",
    by: (b) => testsText(b)[0],
    cell: (b) => <span className={testsText(b)[1]}>{testsText(b)[0]}</span>,
  },
  { head: "Made", right: true, by: (b) => b.made, cell: (b) => b.made },
  { head: "Promoted", right: true, by: (b) => b.promoted, cell: (b) => b.promoted || "" },
  {
    head: "Revision",
    look: "font-mono text-xs",
    cell: (b) => <span title={b.revision}>{b.revision.slice(0, 10)}</span>,
  },
  { head: "Branch", by: (b) => b.branch, cell: (b) => b.branch },
  { head: "By", by: (b) => b.by, cell: (b) => b.by },
  { head: "Began", by: (b) => b.startedAt, cell: (b) => <Time at={b.startedAt} /> },
];

export default function BuildsPage({ me }: { me: Schemas["Me"] }) {
  usePageTitle("Builds");
  const [words, setWords] = useState("");
  const [names, setNames] = useState(false);
  const query = useInfiniteQuery(buildsQueries.builds(words));
  const all = query.data?.pages.flatMap((p) => p.builds) ?? [];
  return (
    <Panel
      title="Builds"
      aside={
        <div className="flex flex-wrap items-center gap-2">
          {me.admin && <Button onClick={() => setNames(true)}>Names…</Button>}
          <div className="w-64">
            <TextInput
              aria-label="Filter"
              placeholder="name, number, revision or branch"
              value={words}
              onChange={(e) => setWords(e.target.value)}
            />
          </div>
        </div>
      }
    >
      {query.error ? (
        <div className="p-4">
          <ErrorNote error={query.error} retry={() => void query.refetch()} />
        </div>
      ) : query.data && all.length === 0 ? (
        words ? (
          <Empty title="No build fits">Take away a word.</Empty>
        ) : (
          <Empty title="No builds yet">
            Let CI record what it makes: <code className="font-mono">crelvo build begin NAME#NUMBER</code> before it
            publishes, and <code className="font-mono">crelvo build record</code> afterwards.
          </Empty>
        )
      ) : (
        <Table
          name="Builds"
          dense
          partly={query.hasNextPage}
          rows={all}
          rowKey={(b) => `${b.name}#${b.number}`}
          columns={buildColumns}
        />
      )}
      <More query={query} />
      <Dialog
        open={names}
        onOpenChange={setNames}
        title="Names of builds"
        description="Only the owner of a name may record builds of it. Whoever uses a new name first owns it."
      >
        <Names />
      </Dialog>
    </Panel>
  );
}

/** Names tells to whom builds of a name belong, and gives one to somebody else. */
function Names() {
  const changed = useChanged();
  const query = useQuery(buildsQueries.names());
  const users = useQuery(rightsQueries.users());
  const give = useMutation({
    mutationFn: (to: [string, string]) => buildsCalls.giveBuildName(...to),
    onSuccess: () => changed({ kind: "build" }),
  });
  return (
    <Loaded query={query}>
      {(all) => (
        <>
          {all.length === 0 && <p className="text-sm text-soft">No build was recorded yet.</p>}
          <ul>
            {all.map((n) => (
              <li
                key={n.name}
                className="flex flex-wrap items-center gap-x-3 gap-y-1 border-b border-rule py-2 text-sm last:border-0"
              >
                <span className="font-medium wrap-anywhere">{n.name}</span>
                <span className="text-soft">
                  {count(n.builds, "build")}
                  {n.givenBy && `, given by ${n.givenBy}`}
                </span>
                <span className="ml-auto w-44">
                  <Picker
                    label={`Whose builds of ${n.name} are`}
                    value={n.owner}
                    onChange={(owner) => give.mutate([n.name, owner])}
                    options={[
                      ["", "whoever uses it next"],
                      ...(users.data ?? []).map((u): [string, string] => [u.name, u.name]),
                    ]}
                  />
                </span>
              </li>
            ))}
          </ul>
          {give.error && <ErrorNote error={give.error} />}
        </>
      )}
    </Loaded>
  );
}
