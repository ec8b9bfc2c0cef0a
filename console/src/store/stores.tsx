import { useMutation } from "@tanstack/react-query";
import { Database, FolderArchive, Plus } from "lucide-react";
import { useState } from "react";
import { Link } from "react-router";
import { type Schemas } from "../api/client";
import { useChanged } from "../api/query";
import { Backups } from "../backups/backups";
import { storeCalls, storeQueries } from "./calls";
import { Confirm } from "../ui/dialog";
import { bytes, count } from "../ui/format";
import { ChoiceField, FormDialog, TextField, TickField } from "../ui/form";
import { Button, Empty, ErrorNote, Loaded, Panel, Time, usePageTitle, useQuery } from "../ui/parts";
import { type Column, Table } from "../ui/table";

/** StoresPage is about where bytes are kept, and what is on its way from one store to another. */
export default function StoresPage() {
  usePageTitle("Stores");
  return (
    <>
      <p className="text-sm text-soft">
        <Link to="/retention/space">Space</Link> /
      </p>
      <h1 className="mb-4 text-2xl font-semibold tracking-tight">Stores</h1>
      <div className="grid grid-cols-[minmax(0,1fr)] gap-5">
        <Stores />
        <Moves />
        <Verified />
        <Backups />
      </div>
    </>
  );
}

type Asked = { what: "edit" | "remove" | "move" | "default"; store: Schemas["Store"] };

function Stores() {
  const query = useQuery(storeQueries.stores());
  const changed = useChanged();
  const [adding, setAdding] = useState(false);
  const [asked, setAsked] = useState<Asked>();
  const close = () => setAsked(undefined);
  const told = () => changed({ kind: "store" }, { kind: "repository" });
  return (
    <Panel
      title="Where bytes are kept"
      aside={
        <Button onClick={() => setAdding(true)}>
          <Plus size={15} /> New store
        </Button>
      }
    >
      <Loaded query={query}>
        {(all) => (
          <ul>
            {all.map((s) => (
              <StoreLine key={s.name} store={s} alone={all.length === 1} ask={(what) => setAsked({ what, store: s })} />
            ))}
          </ul>
        )}
      </Loaded>
      {adding && <NewStore close={() => setAdding(false)} done={told} />}
      {asked?.what === "edit" && <EditStore store={asked.store} close={close} done={told} />}
      {asked?.what === "move" && <MoveHere store={asked.store} all={query.data ?? []} close={close} done={told} />}
      {asked?.what === "default" && (
        <Confirm
          title={`Make ${asked.store.name} the default store?`}
          text="What is new in repositories that were given no store goes there from now on. What they hold stays where it is, until it is moved."
          what="Make it the default"
          run={() => storeCalls.edit(asked.store.name, { default: true }).then(told)}
          close={close}
        />
      )}
      {asked?.what === "remove" && (
        <Confirm
          title={`Forget the store ${asked.store.name}?`}
          text="Nothing may be in it, and no repository may have it. What is there is not touched."
          what="Forget it"
          run={() => storeCalls.remove(asked.store.name).then(told)}
          close={close}
        />
      )}
    </Panel>
  );
}

function StoreLine({
  store: s,
  alone,
  ask,
}: {
  store: Schemas["Store"];
  alone: boolean;
  ask: (what: Asked["what"]) => void;
}) {
  const check = useMutation({ mutationFn: () => storeCalls.check(s.name) });
  const Icon = s.kind === "s3" ? Database : FolderArchive;
  return (
    <li className="border-b border-rule px-4 py-3 text-sm last:border-0">
      <div className="flex flex-wrap items-center gap-x-4 gap-y-1">
        <Icon size={16} aria-hidden className="text-deep" />
        <span className="font-medium">{s.name}</span>
        {s.default && <span className="rounded bg-wash px-1.5 py-0.5 text-xs text-deep">default</span>}
        <span className="wrap-anywhere">{s.where}</span>
        <span className="text-soft">
          {bytes(s.bytes)} in {count(s.files, "file")}
          {(s.free ?? 0) > 0 && <>, room for {bytes(s.free!)} more</>}
        </span>
        <span className="ml-auto flex flex-wrap items-center gap-2">
          <Button onClick={() => check.mutate()} disabled={check.isPending}>
            Check
          </Button>
          {!alone && <Button onClick={() => ask("move")}>Move here…</Button>}
          {!s.default && <Button onClick={() => ask("default")}>Make default…</Button>}
          <Button onClick={() => ask("edit")}>Change…</Button>
          {!alone && <Button onClick={() => ask("remove")}>Forget…</Button>}
        </span>
      </div>
      <p className="mt-1 text-soft">
        {s.repositories.length === 0 ? (
          "No repository’s new bytes go there."
        ) : (
          <>New bytes of {s.repositories.join(", ")} go there.</>
        )}
        {(s.waiting ?? 0) > 0 && <> {count(s.waiting!, "file")} are still to be copied there.</>}
      </p>
      {s.away && (
        <p role="alert" className="mt-1 text-bad">
          It cannot be used: {s.away}. What the disks of the nodes have is served meanwhile.
        </p>
      )}
      {check.data && (
        <p role="status" className="mt-1 text-good">
          It does all that a store must; it took {check.data.took}.
        </p>
      )}
      {check.error && (
        <div className="mt-2">
          <ErrorNote error={check.error} />
        </div>
      )}
    </li>
  );
}

const ways: [string, string][] = [
  ["kept", "kept here, encrypted"],
  ["environment", "in the environment of each node"],
  ["machine", "the role of the machine"],
];

const styles: [string, string][] = [
  ["", "as fits the address"],
  ["path", "behind the host"],
  ["host", "before the host"],
];

type BucketValues = {
  endpoint: string;
  bucket: string;
  prefix: string;
  region: string;
  addressing: string;
  encryption: string;
  credentials: string;
  accessKey: string;
  secret: string;
};

function BucketFields({ credentials, known }: { credentials: string; known?: boolean }) {
  return (
    <>
      <TextField name="endpoint" label="Address" required placeholder="https://s3.skerry.example" />
      <div className="grid gap-x-4 sm:grid-cols-2">
        <TextField name="bucket" label="Bucket" required hint="It must be there." />
        <TextField name="prefix" label="Prefix" placeholder="crelvo/" hint="Before the names of all objects." />
        <TextField name="region" label="Region" />
        <ChoiceField name="addressing" label="The bucket’s name stands" options={styles} />
      </div>
      <TextField
        name="encryption"
        label="Encryption"
        placeholder="s3, or kms: and the id of a key"
        hint="Empty: what the bucket does by itself."
      />
      <ChoiceField name="credentials" label="Its key is" options={ways} />
      {credentials === "kept" && (
        <div className="grid gap-x-4 sm:grid-cols-2">
          <TextField name="accessKey" label="Access key" required autoComplete="off" />
          <TextField
            name="secret"
            label="Its secret"
            type="password"
            autoComplete="off"
            required={!known}
            hint={known ? "Empty: as it is." : undefined}
          />
        </div>
      )}
    </>
  );
}

/** bucketOf is what of the fields is sent: the key only where it is kept here. */
function bucketOf({ accessKey, secret, credentials, ...rest }: BucketValues) {
  return { ...rest, credentials, ...(credentials === "kept" ? { accessKey, ...(secret ? { secret } : {}) } : {}) };
}

function NewStore({ close, done }: { close: () => void; done: () => unknown }) {
  return (
    <FormDialog
      title="New store"
      description="It is tried first. Nothing goes there until a repository is given it, or it is made the default."
      start={{
        name: "",
        kind: "s3",
        folder: "",
        endpoint: "",
        bucket: "",
        prefix: "",
        region: "",
        addressing: "",
        encryption: "",
        credentials: "kept",
        accessKey: "",
        secret: "",
      }}
      run={({ name, kind, folder, ...bucket }) =>
        storeCalls.add(kind === "folder" ? { name, kind, folder } : { name, kind: "s3", ...bucketOf(bucket) })
      }
      done={done}
      close={close}
      submit="Add it"
    >
      {({ kind, credentials }) => (
        <>
          <TextField name="name" label="Name" required autoFocus placeholder="bucket" />
          <ChoiceField
            name="kind"
            label="It is"
            options={[
              ["s3", "a bucket of an object store (S3)"],
              ["folder", "a folder that all nodes share"],
            ]}
          />
          {kind === "folder" ? (
            <TextField
              name="folder"
              label="Folder"
              required
              placeholder="/mnt/packages/crelvo"
              hint="Its whole path on every node, on a file system that they share."
            />
          ) : (
            <BucketFields credentials={credentials} />
          )}
        </>
      )}
    </FormDialog>
  );
}

function EditStore({ store, close, done }: { store: Schemas["Store"]; close: () => void; done: () => unknown }) {
  return (
    <FormDialog
      title={`Change ${store.name}`}
      description="It must be the same store there; one with other bytes is a store of its own."
      start={{
        name: store.name,
        folder: store.folder ?? "",
        endpoint: store.endpoint ?? "",
        bucket: store.bucket ?? "",
        prefix: store.prefix ?? "",
        region: store.region ?? "",
        addressing: store.addressing ?? "",
        encryption: store.encryption ?? "",
        credentials: store.credentials ?? "kept",
        accessKey: store.accessKey ?? "",
        secret: "",
      }}
      run={({ name, folder, ...bucket }) =>
        storeCalls.edit(store.name, {
          name,
          ...(store.kind === "s3" ? bucketOf(bucket) : store.folder ? { folder } : {}),
        })
      }
      done={done}
      close={close}
      submit="Save"
    >
      {({ credentials }) => (
        <>
          <TextField name="name" label="Name" required autoFocus />
          {store.kind === "s3" ? (
            <BucketFields credentials={credentials} known={store.credentials === "kept"} />
          ) : (
            store.folder && <TextField name="folder" label="Folder" required />
          )}
        </>
      )}
    </FormDialog>
  );
}

/** MoveHere chooses which repositories are moved to a store. */
function MoveHere({
  store,
  all,
  close,
  done,
}: {
  store: Schemas["Store"];
  all: Schemas["Store"][];
  close: () => void;
  done: () => unknown;
}) {
  const others = all.filter((s) => s.name !== store.name).flatMap((s) => s.repositories);
  const own = store.repositories;
  return (
    <FormDialog
      title={`Move to ${store.name}`}
      description="What is new in them goes there at once; what they hold is copied in the background, read again there, and then dropped where nobody needs it."
      start={Object.fromEntries([...others, ...own].map((name) => [name, others.includes(name)]))}
      run={(chosen: Record<string, boolean>) =>
        storeCalls.move({ to: store.name, repositories: [...others, ...own].filter((name) => chosen[name]) })
      }
      ready={(chosen) => Object.values(chosen).some(Boolean)}
      done={done}
      close={close}
      submit="Move them"
    >
      <fieldset className="mb-4 grid max-h-80 gap-1 overflow-y-auto sm:grid-cols-2">
        <legend className="mb-1 text-sm font-medium">Repositories</legend>
        {[...others, ...own].map((name) => (
          <TickField key={name} name={name}>
            {name}
            {own.includes(name) && <span className="text-soft"> (what is elsewhere still)</span>}
          </TickField>
        ))}
      </fieldset>
    </FormDialog>
  );
}

const moveColumns: Column<Schemas["StoreMove"]>[] = [
  {
    head: "Repository",
    by: (m) => m.repository,
    cell: (m) => (
      <Link data-row to={`/repositories/${m.repository}`} className="font-medium">
        {m.repository}
      </Link>
    ),
  },
  { head: "To", by: (m) => m.store, cell: (m) => m.store },
  { head: "Files", right: true, by: (m) => m.files, cell: (m) => m.files },
  { head: "Size", right: true, by: (m) => m.bytes, cell: (m) => bytes(m.bytes) },
  { head: "Freed", right: true, by: (m) => m.freed, cell: (m) => (m.freed ? bytes(m.freed) : "") },
  { head: "Begun", from: "md", by: (m) => m.begunAt, cell: (m) => <Time at={m.begunAt} /> },
  { head: "By", from: "md", by: (m) => m.by, cell: (m) => m.by },
  { head: "State", by: (m) => m.state, cell: (m) => <Progress move={m} /> },
];

/** Progress says how far a move is. */
function Progress({ move: m }: { move: Schemas["StoreMove"] }) {
  if (m.endedAt) return <span className={m.state === "done" ? "text-good" : "text-soft"}>{m.state}</span>;
  const part = m.bytes > 0 ? Math.max(0, Math.min(1, 1 - m.leftBytes / m.bytes)) : 0;
  return (
    <span className="grid gap-1">
      <span>
        {m.state}
        {m.leftFiles > 0 && `, ${bytes(m.leftBytes)} left`}
      </span>
      <progress
        className="h-1.5 w-40 max-w-full accent-(--deep)"
        value={part}
        max={1}
        aria-label={`Moving ${m.repository}`}
      />
      {m.trouble && <span className="text-bad">Tried again: {m.trouble}</span>}
    </span>
  );
}

function Moves() {
  const query = useQuery(storeQueries.moves());
  return (
    <Panel title="Moves">
      <Loaded query={query}>
        {(all) =>
          all.length === 0 ? (
            <Empty title="Nothing was moved yet">
              A repository is moved to another store while it is used: “Move here…” beside the store.
            </Empty>
          ) : (
            <Table name="Moves" dense rows={all} rowKey={(m) => m.id} columns={moveColumns} />
          )
        }
      </Loaded>
    </Panel>
  );
}

/** Verified shows when all that is stored was read, and what of it is damaged. */
function Verified() {
  const query = useQuery(storeQueries.verifications());
  const damages = useQuery(storeQueries.damages());
  const changed = useChanged();
  const begin = useMutation({
    mutationFn: () => storeCalls.verify({ repair: true }),
    onSuccess: () => changed({ kind: "store" }),
  });
  const last = query.data?.[0];
  return (
    <Panel
      title="Verified"
      aside={
        <Button
          onClick={() => begin.mutate()}
          disabled={begin.isPending || (last !== undefined && !last.endedAt)}
          title="Reads all that is stored, compares it with what it should be, and mends what can be mended"
        >
          Verify and mend
        </Button>
      }
    >
      {begin.error && <ErrorNote error={begin.error} />}
      <Loaded query={query}>
        {() =>
          last === undefined ? (
            <Empty title="Nothing was verified yet">It is done by itself every month.</Empty>
          ) : (
            <p className="px-4 py-3 text-sm">
              {last.endedAt ? (
                <>
                  Read <Time at={last.endedAt} />: {bytes(last.bytes)} in {count(last.files, "file")};{" "}
                  {last.damaged === 0
                    ? "all of it is what it should be"
                    : `${last.damaged} damaged, ${last.mended} of them mended`}
                  {last.unknown > 0 && `; ${last.unknown} that nothing knows of`}.
                </>
              ) : (
                <>
                  {last.waits ? `It waits: ${last.waits}. ` : "Being read: "}
                  {bytes(last.bytes)} of {bytes(last.allBytes)}.
                </>
              )}
            </p>
          )
        }
      </Loaded>
      {(damages.data?.length ?? 0) > 0 && (
        <Table name="Damaged" dense rows={damages.data!} rowKey={(d) => d.store + d.sha256} columns={damagedColumns} />
      )}
    </Panel>
  );
}

const damagedColumns: Column<Schemas["Damage"]>[] = [
  {
    head: "Damaged",
    cell: (d) =>
      d.of.length === 0 ? (
        <code className="font-mono text-xs">sha256:{d.sha256.slice(0, 12)}…</code>
      ) : (
        d.of.map((f) => (
          <span key={f.repository + f.purl + f.file} className="block wrap-anywhere">
            {f.file}{" "}
            <span className="text-soft">
              of {f.purl} in {f.repository}, by {f.by}
            </span>
          </span>
        ))
      ),
  },
  { head: "Store", by: (d) => d.store, cell: (d) => d.store },
  { head: "What", by: (d) => d.what, cell: (d) => d.what },
  { head: "Found", from: "md", by: (d) => d.foundAt, cell: (d) => <Time at={d.foundAt} /> },
  {
    head: "Mended",
    by: (d) => d.mendedAt,
    cell: (d) => (d.mendedAt ? <span className="text-good">{d.how}</span> : <span className="text-bad">not yet</span>),
  },
];
