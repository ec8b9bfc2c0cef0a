import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate } from "react-router";
import { type Schemas } from "../api/client";
import { useChanged } from "../api/query";
import { rightsQueries } from "../rights/calls";
import { storeQueries } from "../store/calls";
import { repositoriesCalls, repositoriesQueries } from "./calls";
import { bytes, count, sizeOf } from "../ui/format";
import { blankMirror, MirrorFields, mirrorChange, mirrorForm } from "../mirrors/mirror-form";
import { Button, Panel } from "../ui/parts";
import { holdsOptions } from "./new-repository";
import { admissionChange, AdmissionFields, admissionForm } from "./admission-form";
import { Form, FormDialog, TextField, ChoiceField, PickField, TickField } from "../ui/form";

/** settingsOf is what can be typed of the settings of a repository. */
function settingsOf(r: Schemas["Repository"]) {
  return {
    holds: r.holds,
    description: r.description,
    anonymousRead: r.anonymousRead,
    onlyBuilds: r.onlyBuilds,
    onlyRobots: r.onlyRobots,
    closed: r.closed,
    largestFile: r.largestFile ? bytes(r.largestFile) : "",
    hosts: (r.hosts ?? []).join(" "),
    releaseTags: (r.releaseTags ?? []).join(" "),
    store: r.store ?? "",
    fromStore: r.fromStore,
    refuse: (r.refuse ?? "none") as NonNullable<Schemas["RepositoryChange"]["refuse"]>,
    admission: admissionForm(r.admission),
    releasesTo: r.chain?.releasesTo ?? "",
    snapshotsTo: r.chain?.snapshotsTo ?? "",
    openMembers: r.chain?.openMembers ?? false,
    mirror: r.mirror ? mirrorForm(r.mirror) : blankMirror,
  };
}

/** changeOf is what is typed, as the service wants it. */
function changeOf(r: Schemas["Repository"], f: ReturnType<typeof settingsOf>): Schemas["RepositoryChange"] {
  const saved = settingsOf(r);
  const largest = f.largestFile.trim() ? sizeOf(f.largestFile) : 0;
  return {
    description: f.description,
    anonymousRead: f.anonymousRead,
    ...(r.kind === "house" ? { onlyBuilds: f.onlyBuilds, onlyRobots: f.onlyRobots, closed: f.closed } : {}),
    ...(r.kind === "house" && f.largestFile !== saved.largestFile ? { largestFile: largest } : {}),
    ...(f.releaseTags !== saved.releaseTags ? { releaseTags: f.releaseTags.split(/[\s,]+/).filter(Boolean) } : {}),
    ...(f.store !== saved.store ? { store: f.store } : {}),
    ...(f.fromStore !== saved.fromStore ? { fromStore: f.fromStore } : {}),
    ...(f.refuse !== saved.refuse ? { refuse: f.refuse } : {}),
    ...admissionChange(f.admission, saved.admission),
    ...(f.hosts !== saved.hosts ? { hosts: f.hosts.split(/[\s,]+/).filter(Boolean) } : {}),
    ...(r.chain
      ? { chain: { releasesTo: f.releasesTo, snapshotsTo: f.snapshotsTo, openMembers: f.openMembers } }
      : { holds: f.holds }),
    ...(r.mirror ? { mirror: mirrorChange(f.mirror, saved.mirror) } : {}),
  };
}

export function Settings({ repository: r }: { repository: Schemas["Repository"] }) {
  const changed = useChanged();
  const admin = useQuery(rightsQueries.me()).data?.admin;
  const [removing, setRemoving] = useState(false);
  const all = useQuery(repositoriesQueries.repositories());
  const houses = (takes: string): [string, string][] => [
    ["", "nowhere"],
    ...(all.data ?? [])
      .filter((o) => o.kind === "house" && (o.holds === takes || o.holds === "both"))
      .map((o): [string, string] => [o.name, o.name]),
  ];
  return (
    <div className="grid max-w-2xl gap-5">
      <Panel title="Settings">
        <Form
          className="p-4"
          start={settingsOf(r)}
          run={(form) => repositoriesCalls.editRepository(r.name, changeOf(r, form))}
          done={() => changed({ kind: "repository" })}
          submit="Save"
          saves="Saved; it is in force now."
          kept={(form) => ({ ...form, mirror: { ...form.mirror, secret: "" } })} // which is never shown
        >
          {!r.chain && (
            <ChoiceField
              name="holds"
              label="It holds"
              hint="What is there already stays, whatever you choose."
              options={holdsOptions}
            />
          )}
          {r.mirror && <MirrorFields ecosystem={r.ecosystem ?? ""} like={r.name} hasSecret={r.mirror.hasSecret} />}
          {r.chain && (
            <div className="grid gap-x-4 sm:grid-cols-2">
              <PickField
                name="releasesTo"
                label="Releases that are published here go to"
                options={houses("releases")}
              />
              <PickField name="snapshotsTo" label="Snapshots go to" options={houses("snapshots")} />
            </div>
          )}
          {r.chain && (
            <TickField name="openMembers">
              Whoever may read {r.name} may read through it what all its members add; else only what they may read there
            </TickField>
          )}
          <TextField name="description" label="Description" />
          {r.kind === "house" && (
            <>
              <TextField
                name="largestFile"
                label="Largest file"
                hint="The largest file that may be published, such as 2 GiB. Empty: what the server says."
                pattern="\s*\d+(\.\d+)?\s*[KMGTkmgt]?(i?[Bb])?\s*"
                title="A number with a unit, such as 500 MiB"
              />
              <TextField
                name="releaseTags"
                label="Tags that are releases"
                hint="Patterns of tags of images, such as r*, that never move. Final versions such as 1.5.0 are releases anyway."
              />
              <TickField name="onlyBuilds">Take only what comes from a build that began here</TickField>
              <TickField name="onlyRobots">Take only what robots publish</TickField>
              <TickField name="closed">Versions that are complete take no further files but signatures</TickField>
            </>
          )}
          <ChoiceField
            name="refuse"
            label="It keeps out"
            hint="What advisories are about is then neither listed nor handed out, unless a waiver accepts it."
            options={[
              ["none", "what is malicious"],
              ["critical", "what has a critical advisory, too"],
              ["high", "what has a high or critical advisory, too"],
              ["medium", "what has a medium or worse advisory, too"],
              ["low", "what has any advisory, too"],
            ]}
          />
          <AdmissionFields house={r.kind === "house"} />
          {r.store && <StoreField />}
          {admin && !r.chain && <FromStoreField />}
          <TextField
            name="hosts"
            label="Hosts of its own"
            hint="For clients of images that know only a host, such as images.skerry.example. They must lead to this server."
          />
          <TickField name="anonymousRead">Anybody may read it without signing in</TickField>
        </Form>
      </Panel>
      <Panel title="Remove">
        <div className="flex flex-wrap items-center justify-between gap-3 p-4 text-sm">
          <p>
            Clients that use its address will be refused. Within 14 days it can be brought back with all that it held.
          </p>
          <Button look="danger" onClick={() => setRemoving(true)}>
            Remove {r.name}
          </Button>
        </div>
      </Panel>
      {removing && <Remove repository={r} close={() => setRemoving(false)} />}
    </div>
  );
}

/** StoreField chooses where what is new is kept; it is there for those who look after everything, if there are several. */
function StoreField() {
  const all = useQuery(storeQueries.stores());
  return (
    <ChoiceField
      name="store"
      label="Store"
      hint="What is new goes there. What it holds already is moved on the page of stores."
      options={(all.data ?? []).map((s) => [s.name, s.name])}
    />
  );
}

function Remove({ repository: r, close }: { repository: Schemas["Repository"]; close: () => void }) {
  const changed = useChanged();
  const navigate = useNavigate();
  return (
    <FormDialog
      title={`Remove ${r.name}?`}
      description={
        r.packages
          ? `It holds ${count(r.packages, "package")} in ${count(r.versions, "version")}, ${bytes(r.bytes)}.`
          : "It is empty."
      }
      start={{ typed: "", withContents: false }}
      run={({ withContents }) => repositoriesCalls.removeRepository(r.name, withContents)}
      done={() => {
        void navigate("/");
        return changed({ kind: "repository" });
      }}
      close={close}
      leave="Keep it"
      look="danger"
      ready={({ typed }) => typed === r.name}
      submit="Remove"
    >
      {r.packages > 0 && <TickField name="withContents">Its contents go too</TickField>}
      <TextField name="typed" label={`Type ${r.name} to confirm`} />
    </FormDialog>
  );
}

/** FromStoreField is there where an object store is. */
function FromStoreField() {
  const all = useQuery(storeQueries.stores());
  if (!all.data?.some((s) => s.kind === "s3")) {
    return null;
  }
  return (
    <TickField name="fromStore">
      Clients that follow there read large files from the object store itself, which they must reach
    </TickField>
  );
}
