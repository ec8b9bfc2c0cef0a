import { useMutation } from "@tanstack/react-query";
import { Plus } from "lucide-react";
import { useState } from "react";
import { Link } from "react-router";
import { type Schemas } from "../api/client";
import { useChanged } from "../api/query";
import { Confirm, Dialog } from "../ui/dialog";
import { bytes, count } from "../ui/format";
import { Button, Empty, ErrorNote, Loaded, Panel, Time, usePageTitle, useQuery } from "../ui/parts";
import { type Column, Table } from "../ui/table";
import { targetsCalls, targetsQueries } from "./calls";
import { TargetForm } from "./form";

type Target = Schemas["Target"];

const kinds: Record<string, string> = {
  folder: "a folder",
  sftp: "by SFTP",
  ftp: "by FTP",
  put: "by PUT",
  s3: "a bucket",
};

/** TargetState says how a plain tree is; of a server nothing is known. */
function TargetState({ t }: { t: Target }) {
  const tree = t.tree;
  if (!tree) return <span className="text-soft">a server</span>;
  if (tree.failure)
    return (
      <>
        <span className="text-bad">failed</span>
        {tree.nextAt && (
          <span className="text-soft">
            , again <Time at={tree.nextAt} />
          </span>
        )}
        <span className="block text-xs wrap-anywhere text-soft">{tree.failure}</span>
      </>
    );
  return (
    <>
      {tree.waiting > 0 ? (
        <span className="text-glow">{count(tree.waiting, "package")} to be written</span>
      ) : tree.wroteAt ? (
        <span className="text-good">up to date</span>
      ) : (
        <span className="text-soft">empty</span>
      )}
      <span className="block text-xs text-soft">
        {count(tree.packages, "package")}, {count(tree.files, "file")}, {bytes(tree.bytes)}
      </span>
    </>
  );
}

const columns = (act: {
  check: (t: Target) => void;
  change: (t: Target) => void;
  remove: (t: Target) => void;
}): Column<Target>[] => [
  {
    head: "Target",
    by: (t) => t.name,
    cell: (t) => (
      <>
        <span className="font-medium whitespace-nowrap">{t.name}</span>
        <span className="block text-xs text-soft">{t.ecosystem}</span>
      </>
    ),
  },
  {
    head: "Where",
    by: (t) => t.url,
    cell: (t) => (
      <>
        <code className="font-mono text-sm wrap-anywhere">{t.url}</code>
        <span className="block text-xs text-soft">
          {t.tree ? `a plain tree, ${kinds[t.tree.kind] ?? t.tree.kind}` : "published to"}
          {t.hasSecret && ", signs in"}
          {t.tree?.readAt && (
            <>
              {", read at "}
              <a href={t.tree.readAt} className="wrap-anywhere">
                {t.tree.readAt}
              </a>
            </>
          )}
        </span>
      </>
    ),
  },
  { head: "State", by: (t) => t.tree?.failure || String(t.tree?.waiting ?? ""), cell: (t) => <TargetState t={t} /> },
  {
    head: "Set",
    from: "md",
    by: (t) => t.at,
    cell: (t) => (
      <>
        <Time at={t.at} />
        <span className="block text-xs text-soft">by {t.by}</span>
      </>
    ),
  },
  {
    head: "Do",
    cell: (t) => (
      <span className="flex flex-wrap justify-end gap-2 lg:flex-nowrap">
        <Button onClick={() => act.check(t)}>Try it</Button>
        <Button onClick={() => act.change(t)}>Change…</Button>
        <Button onClick={() => act.remove(t)}>Remove…</Button>
      </span>
    ),
  },
];

export default function TargetsPage() {
  usePageTitle("Targets");
  const changed = useChanged();
  const query = useQuery(targetsQueries.targets());
  const [editing, setEditing] = useState<Target | "new">();
  const [removing, setRemoving] = useState("");
  const [checking, setChecking] = useState("");
  return (
    <>
      <p className="text-sm text-soft">
        <Link to="/tracks">Tracks</Link> / <Link to="/relays">Relays</Link> /
      </p>
      <h1 className="mb-4 text-2xl font-semibold tracking-tight">Targets</h1>
      <Panel
        title="Places outside that versions go on to"
        aside={
          <Button look="strong" onClick={() => setEditing("new")}>
            <Plus size={15} /> New target
          </Button>
        }
      >
        <Loaded query={query}>
          {(all) =>
            all.length === 0 ? (
              <Empty title="No targets yet">
                A target is a repository on another server, or a plain tree: the repository written out as files, which
                any web server hands out. Promotions and relays send versions there.
              </Empty>
            ) : (
              <Table
                name="Targets"
                rows={all}
                rowKey={(t) => t.name}
                columns={columns({
                  check: (t) => setChecking(t.name),
                  change: setEditing,
                  remove: (t) => setRemoving(t.name),
                })}
              />
            )
          }
        </Loaded>
      </Panel>
      {editing && (
        <TargetForm
          there={editing === "new" ? undefined : editing}
          close={() => setEditing(undefined)}
          saved={() => changed({ kind: "target" })}
        />
      )}
      {checking && <Check name={checking} close={() => setChecking("")} />}
      {removing && (
        <Confirm
          title={`Remove ${removing}?`}
          text="Nothing goes on to it any more; its name and password are forgotten. What went there stays there."
          what="Remove it"
          run={() => targetsCalls.remove(removing).then(() => changed({ kind: "target" }))}
          close={() => setRemoving("")}
        />
      )}
    </>
  );
}

/** Check tries a target, and says what was found. */
function Check({ name, close }: { name: string; close: () => void }) {
  const changed = useChanged();
  const doing = useMutation({
    mutationFn: () => targetsCalls.check(name),
    onSuccess: () => changed({ kind: "target" }),
  });
  const found = doing.data;
  return (
    <Dialog open onOpenChange={(open) => open || close()} title={`Try ${name}`}>
      <p className="mb-3 text-sm">
        Whether it is there, and lets us in. Of a plain tree every file is looked at, and what is not as it was written
        is written again.
      </p>
      {doing.error && <ErrorNote error={doing.error} />}
      {found && (
        <div role="status" className="mb-3 text-sm">
          <p className="text-good">It is there, and lets us in.</p>
          {found.files > 0 && (
            <p>
              {found.missing + found.other === 0
                ? `All of its ${count(found.files, "file")} are as they were written.`
                : `Of ${count(found.files, "file")}, ${found.missing} are missing, and ${found.other} of another size than was written. They are written again.`}
            </p>
          )}
          <ul className="mt-2 max-h-60 overflow-y-auto">
            {[...found.missingFiles, ...found.otherFiles].map((at) => (
              <li key={at}>
                <code className="font-mono text-xs wrap-anywhere">{at}</code>
              </li>
            ))}
          </ul>
        </div>
      )}
      <div className="flex justify-end gap-2">
        <Button onClick={close}>Close</Button>
        <Button look="strong" onClick={() => doing.mutate()} disabled={doing.isPending}>
          {doing.isPending ? "Looking…" : found ? "Once more" : "Try it"}
        </Button>
      </div>
    </Dialog>
  );
}
