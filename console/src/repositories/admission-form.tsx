import { type Schemas } from "../api/client";
import { lines } from "../ui/format";
import { AreaField, ChoiceField, TextField, TickField } from "../ui/form";

/** admissionForm is what can be typed of what a repository lets in. */
export function admissionForm(a: Schemas["Admission"]) {
  return {
    cooldown: String(a.cooldownDays),
    vetted: a.vetted,
    accepts: a.accepts.join("\n"),
    allow: a.allowLicences.join(" "),
    refuse: a.refuseLicences.join(" "),
    unstated: a.unstatedLicence,
  };
}

type Typed = ReturnType<typeof admissionForm>;

/** admissionChange is what is typed, as the service wants it. */
export function admissionChange(f: Typed, saved: Typed): { admission?: Schemas["AdmissionChange"] } {
  if (JSON.stringify(f) === JSON.stringify(saved)) return {};
  const names = (text: string) => text.split(/[\s,]+/).filter(Boolean);
  return {
    admission: {
      cooldownDays: Number(f.cooldown),
      vetted: f.vetted,
      accepts: lines(f.accepts),
      allowLicences: names(f.allow),
      refuseLicences: names(f.refuse),
      unstatedLicence: f.unstated,
    },
  };
}

/** AdmissionFields say what is let in, of what comes from outside and under which licences. */
export function AdmissionFields({ house }: { house: boolean }) {
  return (
    <>
      {!house && (
        <>
          <TextField
            name="admission.cooldown"
            label="Days that a new version waits"
            hint="What comes from outside is not there before it is that old. What is kept already stays. 0: it does not wait."
            type="number"
            min={0}
            max={365}
            required
          />
          <TickField name="admission.vetted">
            What comes from outside awaits a person's decision, unless a rule accepts it
          </TickField>
          <AreaField
            name="admission.accepts"
            label="Rules that accept by themselves"
            hint="One a line, each of conditions with commas between them: older-than 14d, licences MIT Apache-2.0, no-advisories from medium, no-scripts, same-maintainers, size-within 50%, downloads 100, signed-by KEY, built-from ADDRESS, no-binaries, only PATTERN."
            rows={3}
            placeholder="older-than 14d, licences MIT Apache-2.0, no-advisories from medium"
          />
        </>
      )}
      <TextField
        name="admission.allow"
        label="Licences that are allowed"
        hint="Identifiers of SPDX, of which one is enough. Empty: all that are not refused. What is neither awaits a decision."
        placeholder="MIT Apache-2.0"
      />
      <TextField
        name="admission.refuse"
        label="Licences that are refused"
        hint="With * for any run of characters. A decision that names the package lets it in nevertheless."
        placeholder="AGPL-*"
      />
      <ChoiceField
        name="admission.unstated"
        label="What states no licence"
        options={[
          ["let-in", "is let in"],
          ["await", "awaits a decision"],
          ["refuse", "is kept out"],
        ]}
      />
    </>
  );
}
