import { useWatch } from "react-hook-form";
import { useMutation } from "@tanstack/react-query";
import { Check, TriangleAlert } from "lucide-react";
import { useState } from "react";
import { type Schemas } from "../api/client";
import { mirrorsCalls } from "./calls";
import { lines, seconds } from "../ui/format";
import { Button, ErrorNote } from "../ui/parts";
import { TextField, AreaField } from "../ui/form";

/** MirrorForm is what is typed of the settings of a mirror. */
type MirrorForm = {
  upstreams: string;
  user: string;
  secret: string;
  proxy: string;
  redirectTo: string;
  allow: string;
  deny: string;
  freshSeconds: string;
  absentSeconds: string;
  connectSeconds: string;
  firstByteSeconds: string;
  silenceSeconds: string;
  parallel: string;
};

export const blankMirror: MirrorForm = {
  upstreams: "",
  user: "",
  secret: "",
  proxy: "",
  redirectTo: "",
  allow: "",
  deny: "",
  freshSeconds: "600",
  absentSeconds: "300",
  connectSeconds: "5",
  firstByteSeconds: "20",
  silenceSeconds: "30",
  parallel: "16",
};

export function mirrorForm(m: Schemas["Mirror"]): MirrorForm {
  return {
    upstreams: m.upstreams.join("\n"),
    user: m.user,
    secret: "",
    proxy: m.proxy,
    redirectTo: m.redirectTo.join("\n"),
    allow: m.allow.join("\n"),
    deny: m.deny.join("\n"),
    freshSeconds: String(m.freshSeconds),
    absentSeconds: String(m.absentSeconds),
    connectSeconds: String(m.connectSeconds),
    firstByteSeconds: String(m.firstByteSeconds),
    silenceSeconds: String(m.silenceSeconds),
    parallel: String(m.parallel),
  };
}

/** mirrorChange is what is typed, as the service wants it; before leaves out what must not be sent unchanged. */
export function mirrorChange(f: MirrorForm, before?: MirrorForm): Schemas["MirrorChange"] {
  return {
    upstreams: lines(f.upstreams),
    redirectTo: lines(f.redirectTo),
    allow: lines(f.allow),
    deny: lines(f.deny),
    user: f.user,
    // A secret, and the password of a proxy, are never shown, so they stay unless they are typed.
    ...(f.secret ? { secret: f.secret } : {}),
    ...(f.proxy !== before?.proxy ? { proxy: f.proxy } : {}),
    freshSeconds: Number(f.freshSeconds),
    absentSeconds: Number(f.absentSeconds),
    connectSeconds: Number(f.connectSeconds),
    firstByteSeconds: Number(f.firstByteSeconds),
    silenceSeconds: Number(f.silenceSeconds),
    parallel: Number(f.parallel),
  };
}

const limits: [keyof MirrorForm, string][] = [
  ["freshSeconds", "Lists are fresh for (s)"],
  ["absentSeconds", "Absence is remembered for (s)"],
  ["connectSeconds", "Connecting takes at most (s)"],
  ["firstByteSeconds", "An answer begins within (s)"],
  ["silenceSeconds", "Silence lasts at most (s)"],
  ["parallel", "Requests at once"],
];

/** MirrorFields are the fields "mirror" of a form, with a way to try them before they are saved. */
export function MirrorFields({
  ecosystem,
  like,
  hasSecret,
}: {
  ecosystem: string;
  like?: string;
  hasSecret?: boolean;
}) {
  const [more, setMore] = useState(false);
  const form = useWatch<{ mirror: MirrorForm }, "mirror">({ name: "mirror" });
  const check = useMutation({
    mutationFn: () =>
      mirrorsCalls.checkMirror({ ecosystem, mirror: mirrorChange(form, like ? form : undefined), like }),
  });
  return (
    <>
      <AreaField
        name="mirror.upstreams"
        label="Upstreams"
        hint="One address a line: the first is asked; the others only if those before fail."
        required
        placeholder={`https://${ecosystem}.openshore.example/`}
      />
      <div className="mb-3 text-sm">
        <Button onClick={() => check.mutate()} disabled={check.isPending || lines(form.upstreams).length === 0}>
          Check the connection
        </Button>
        {check.error && (
          <div className="mt-2">
            <ErrorNote error={check.error} />
          </div>
        )}
        {check.data?.map((c) => (
          <p key={c.url} role="status" className={`mt-2 flex items-start gap-2 ${c.ok ? "text-good" : "text-bad"}`}>
            {c.ok ? (
              <Check size={16} className="mt-0.5 shrink-0" aria-hidden />
            ) : (
              <TriangleAlert size={16} className="mt-0.5 shrink-0" aria-hidden />
            )}
            <span className="wrap-anywhere">
              {c.url}: {c.said} ({seconds(c.seconds)}
              {c.private && ", in a private network"})
            </span>
          </p>
        ))}
      </div>
      <details open={more} onToggle={(e) => setMore(e.currentTarget.open)} className="mb-3">
        <summary className="cursor-pointer text-sm font-medium text-deep">Sign-in, patterns and limits</summary>
        <div className="mt-3 grid gap-x-4 sm:grid-cols-2">
          <TextField name="mirror.user" label="User" autoComplete="off" />
          <TextField
            name="mirror.secret"
            label="Password, or Bearer token"
            hint={hasSecret ? "One is kept; type another to change it." : "Kept encrypted."}
            type="password"
            autoComplete="new-password"
          />
          <TextField name="mirror.proxy" label="Proxy" placeholder="http://proxy.skerry.example:3128" />
          <AreaField
            name="mirror.redirectTo"
            label="May redirect to"
            hint="Hosts besides its own, one a line."
            placeholder="*.openshore.example"
          />
          <AreaField
            name="mirror.allow"
            label="Lets in only"
            hint="Patterns, one a line; empty is everything."
            placeholder={`pkg:${ecosystem}/*`}
          />
          <AreaField
            name="mirror.deny"
            label="Never lets in"
            hint="Patterns, one a line."
            placeholder={`pkg:${ecosystem}/*@vers:${ecosystem}/<2.0`}
          />
          {limits.map(([key, label]) => (
            <TextField
              key={key}
              name={`mirror.${key}`}
              label={label}
              type="number"
              min={key === "parallel" ? 1 : 0.1}
              step="any"
              required
            />
          ))}
        </div>
      </details>
    </>
  );
}
