import { useMutation, useQueryClient } from "@tanstack/react-query";
import { Tabs } from "radix-ui";
import { useState } from "react";
import { Link, useNavigate, useParams } from "react-router";
import { api, type Schemas } from "../api/client";
import { Choice, Dialog, Field, TextInput, Tick } from "../ui/dialog";
import { bytes, count } from "../ui/format";
import { Button, CopyButton, Empty, ErrorNote, Holds, Loaded, Panel, Time, usePageTitle, useQuery } from "../ui/parts";
import { Snippets } from "../ui/snippets";
import { Tree } from "../ui/tree";
import { PackageTable } from "./search";

const tab = "-mb-px cursor-pointer border-b-2 border-transparent px-3 py-2 text-sm text-soft hover:text-ink data-[state=active]:border-deep data-[state=active]:font-medium data-[state=active]:text-ink";

export function RepositoryPage() {
  const { name = "", "*": rest = "" } = useParams();
  usePageTitle(name);
  const navigate = useNavigate();
  const query = useQuery({ queryKey: ["repository", name], queryFn: () => api.repository(name) });
  const shown = rest.split("/")[0] || "contents";
  return (
    <Loaded query={query}>
      {(r) => (
        <>
          <Head repository={r} />
          <Tabs.Root value={shown} onValueChange={(value) => void navigate(`/repositories/${name}/${value === "contents" ? "" : value}`)}>
            <Tabs.List className="mb-4 flex gap-1 border-b border-rule" aria-label={name}>
              <Tabs.Trigger className={tab} value="contents">Contents</Tabs.Trigger>
              <Tabs.Trigger className={tab} value="packages">Packages</Tabs.Trigger>
              <Tabs.Trigger className={tab} value="use">Use it</Tabs.Trigger>
              {r.may.includes("manage") && <Tabs.Trigger className={tab} value="settings">Settings</Tabs.Trigger>}
            </Tabs.List>
            <Tabs.Content value="contents"><Contents repository={r} /></Tabs.Content>
            <Tabs.Content value="packages"><Packages repository={name} /></Tabs.Content>
            <Tabs.Content value="use"><Snippets repository={name} ecosystem={r.ecosystems[0] ?? "maven"} /></Tabs.Content>
            <Tabs.Content value="settings"><Settings key={r.name} repository={r} /></Tabs.Content>
          </Tabs.Root>
        </>
      )}
    </Loaded>
  );
}

function Head({ repository: r }: { repository: Schemas["Repository"] }) {
  return (
    <div className="mb-4">
      <p className="text-sm text-soft"><Link to="/">Repositories</Link> /</p>
      <div className="flex flex-wrap items-baseline gap-x-4 gap-y-1">
        <h1 className="text-2xl font-semibold tracking-tight">{r.name}</h1>
        <span className="text-sm"><Holds holds={r.holds} /></span>
        <span className="text-sm text-soft">{r.description}</span>
      </div>
      <div className="mt-1.5 flex flex-wrap items-center gap-x-5 gap-y-1 text-sm text-soft">
        <span className="inline-flex items-center gap-1"><code className="font-mono text-ink">{r.address}</code><CopyButton text={r.address} label="Copy the address" /></span>
        <span>{count(r.packages, "package")}, {count(r.versions, "version")}, {bytes(r.bytes)}</span>
        <span>{r.anonymousRead ? "anybody may read" : "readers sign in"}</span>
        {r.lastChange && <span>changed <Time at={r.lastChange} /></span>}
      </div>
    </div>
  );
}

const ecosystemTitles: Record<string, string> = { maven: "Maven" };

function Contents({ repository: r }: { repository: Schemas["Repository"] }) {
  if (r.ecosystems.length === 0) {
    return (
      <Panel>
        <Empty title={`${r.name} is empty`}>
          <Link to={`/repositories/${r.name}/use`}>Use it</Link> has the text that lets a build tool publish here; or run{" "}
          <code className="font-mono">crelvo publish FILE --to {r.name}</code>.
        </Empty>
      </Panel>
    );
  }
  return (
    <div className="grid grid-cols-[minmax(0,1fr)] gap-5">
      {r.ecosystems.map((e) => <Panel key={e} title={ecosystemTitles[e] ?? e}><Tree repository={r.name} ecosystem={e} /></Panel>)}
    </div>
  );
}

function Packages({ repository }: { repository: string }) {
  const [text, setText] = useState("");
  const query = useQuery({ queryKey: ["search", text, repository, 200], queryFn: () => api.search(text, repository, 200) });
  return (
    <Panel title="Packages" aside={<div className="w-56"><TextInput aria-label="Filter" placeholder="Filter by name" value={text} onChange={(e) => setText(e.target.value)} /></div>}>
      <Loaded query={query}>{(found) => <PackageTable found={found} within />}</Loaded>
    </Panel>
  );
}

function Settings({ repository: r }: { repository: Schemas["Repository"] }) {
  const queries = useQueryClient();
  const [form, setForm] = useState({ holds: r.holds as string, description: r.description, anonymousRead: r.anonymousRead });
  const [removing, setRemoving] = useState(false);
  const save = useMutation({
    mutationFn: () => api.editRepository(r.name, { ...form, holds: form.holds as "both" }),
    onSuccess: () => queries.invalidateQueries(),
  });
  const changed = form.holds !== r.holds || form.description !== r.description || form.anonymousRead !== r.anonymousRead;
  return (
    <div className="grid max-w-2xl gap-5">
      <Panel title="Settings">
        <form
          className="p-4"
          onSubmit={(e) => {
            e.preventDefault();
            save.mutate();
          }}
        >
          <Field label="Holds" hint="What is there already stays, whatever you choose.">
            <Choice value={form.holds} onChange={(holds) => setForm({ ...form, holds })} options={[["snapshots", "snapshots"], ["releases", "releases"], ["both", "snapshots and releases"]]} />
          </Field>
          <Field label="Description"><TextInput value={form.description} onChange={(e) => setForm({ ...form, description: e.target.value })} /></Field>
          <Tick checked={form.anonymousRead} onChange={(anonymousRead) => setForm({ ...form, anonymousRead })}>Anybody may read it without signing in</Tick>
          {save.error && <div className="mb-3"><ErrorNote error={save.error} /></div>}
          <div className="flex items-center gap-3">
            <Button type="submit" look="strong" disabled={!changed || save.isPending}>Save</Button>
            <span role="status" className="text-sm text-soft">{changed ? "Not saved yet." : save.isSuccess ? "Saved; it is in force now." : ""}</span>
          </div>
        </form>
      </Panel>
      <Panel title="Remove">
        <div className="flex flex-wrap items-center justify-between gap-3 p-4 text-sm">
          <p>Clients that use its address will be refused. Its records stay in the history.</p>
          <Button look="danger" onClick={() => setRemoving(true)}>Remove {r.name}</Button>
        </div>
      </Panel>
      <Remove repository={r} open={removing} onOpenChange={setRemoving} />
    </div>
  );
}

function Remove({ repository: r, open, onOpenChange }: { repository: Schemas["Repository"]; open: boolean; onOpenChange: (open: boolean) => void }) {
  const queries = useQueryClient();
  const navigate = useNavigate();
  const [typed, setTyped] = useState("");
  const [withContents, setWithContents] = useState(false);
  const remove = useMutation({
    mutationFn: () => api.removeRepository(r.name, withContents),
    onSuccess: () => {
      void navigate("/");
      void queries.invalidateQueries();
    },
  });
  return (
    <Dialog open={open} onOpenChange={onOpenChange} title={`Remove ${r.name}?`} description={r.packages ? `It holds ${count(r.packages, "package")} in ${count(r.versions, "version")}, ${bytes(r.bytes)}.` : "It is empty."}>
      {r.packages > 0 && <Tick checked={withContents} onChange={setWithContents}>Its contents go too</Tick>}
      <Field label={`Type ${r.name} to confirm`}><TextInput value={typed} onChange={(e) => setTyped(e.target.value)} /></Field>
      {remove.error && <div className="mb-3"><ErrorNote error={remove.error} /></div>}
      <div className="flex justify-end gap-2">
        <Button onClick={() => onOpenChange(false)}>Keep it</Button>
        <Button look="danger" disabled={typed !== r.name || remove.isPending} onClick={() => remove.mutate()}>Remove</Button>
      </div>
    </Dialog>
  );
}
