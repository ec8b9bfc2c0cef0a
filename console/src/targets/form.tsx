import { type Schemas } from "../api/client";
import { ChoiceField, FormDialog, TextField, TickField } from "../ui/form";
import { useEcosystems } from "../ui/parts";
import { targetsCalls } from "./calls";

/** TargetForm sets a target: a server, or a plain tree. */
export function TargetForm({
  there,
  close,
  saved,
}: {
  there?: Schemas["Target"];
  close: () => void;
  saved: () => unknown;
}) {
  const known = useEcosystems();
  return (
    <FormDialog
      title={there ? `Change ${there.name}` : "New target"}
      description="A place outside that promotions and relays send versions on to."
      start={{
        name: there?.name ?? "",
        ecosystem: there?.ecosystem ?? "maven",
        kind: there?.tree ? "tree" : "server",
        url: there?.url ?? "",
        readAt: there?.tree?.readAt ?? "",
        hostKey: there?.tree?.hostKey ?? "",
        user: "",
        secret: "",
        anyway: false,
      }}
      run={({ kind, name, ecosystem, url, readAt, hostKey, user, secret, anyway }) =>
        targetsCalls.set({
          name,
          ecosystem,
          url: url.trim(),
          user: user || undefined,
          secret: secret || undefined,
          ...(kind === "tree"
            ? { tree: true, readAt: readAt.trim() || undefined, hostKey: hostKey.trim() || undefined, anyway }
            : {}),
        })
      }
      done={saved}
      close={close}
      submit="Save"
    >
      {({ kind, url }) => (
        <>
          {!there && <TextField name="name" label="Name" required autoFocus placeholder="public-maven" />}
          <div className="grid gap-x-4 sm:grid-cols-2">
            <ChoiceField
              name="kind"
              label="What it is"
              options={[
                ["server", "a server"],
                ["tree", "a plain tree"],
              ]}
            />
            <ChoiceField
              name="ecosystem"
              label="Ecosystem"
              options={(known.data ?? []).map((e) => [e.name, e.title])}
            />
          </div>
          {kind === "server" ? (
            <TextField
              name="url"
              label="Address"
              required
              type="url"
              placeholder="https://upload.openshore.example/maven/"
              hint="As the ecosystem's own client would publish there."
            />
          ) : (
            <>
              <TextField
                name="url"
                label="Where it is written"
                required
                placeholder="/srv/www/maven"
                hint="A folder of the server's machine, sftp://HOST/PATH, ftps://HOST/PATH, https://HOST/PATH/ of a server that takes PUT, or s3+https://HOST/BUCKET/PREFIX."
              />
              <TextField
                name="readAt"
                label="At which address it is read"
                type="url"
                placeholder="https://packages.skerry.example/maven/"
                hint="For npm, NuGet and Cargo, whose documents name it."
              />
              {url.startsWith("sftp:") && (
                <TextField
                  name="hostKey"
                  label="Host key"
                  placeholder="SHA256:…"
                  hint="Leave it out once to be told which one it shows."
                />
              )}
            </>
          )}
          <div className="grid gap-x-4 sm:grid-cols-2">
            <TextField name="user" label="User" autoComplete="off" />
            <TextField
              name="secret"
              label={kind === "tree" ? "Password or key" : "Password or token"}
              hint={there?.hasSecret ? "Type it again; it is written anew." : undefined}
              type="password"
              autoComplete="off"
            />
          </div>
          {kind === "tree" && <TickField name="anyway">Save it also if it cannot be written to now</TickField>}
        </>
      )}
    </FormDialog>
  );
}
