import { useMutation } from "@tanstack/react-query";
import type { ComponentProps, ReactNode } from "react";
import {
  FormProvider,
  useController,
  useForm,
  useFormContext,
  type DefaultValues,
  type FieldValues,
  type UseFormReturn,
} from "react-hook-form";
import { Picker } from "./combobox";
import { Choice, Dialog, Field, TextArea, TextInput, Tick } from "./dialog";
import { Button, ErrorNote } from "./parts";
import { When } from "./when";

type FormProps<V extends FieldValues, R> = {
  /** start are the values that it begins with; of one that saves, what is not touched follows them later. */
  start: V;
  run: (values: V) => Promise<R>;
  /** done is called with what came back; then close shuts what the form stands in. */
  done?: (result: R) => unknown;
  close?: () => void;
  submit: ReactNode;
  look?: "strong" | "danger" | "plain";
  leave?: string;
  /** saves: it is about what is there already, can be saved when something was changed, and says so. */
  saves?: string;
  /** kept is what of the values stays in it once they are saved; left out, all. */
  kept?: (values: V) => V;
  /** again: another may follow, so that it is emptied and stays. */
  again?: boolean;
  /** ready says whether it can be handed in. */
  ready?: (values: V) => boolean;
  className?: string;
  children: ReactNode | ((values: V, form: UseFormReturn<V>) => ReactNode);
};

/** Form asks for values and hands them in; what goes wrong stands above its button. */
export function Form<V extends FieldValues, R>({
  start,
  run,
  done,
  close,
  submit,
  look = "strong",
  leave = "Cancel",
  saves,
  kept = (values) => values,
  again,
  ready,
  className,
  children,
}: FormProps<V, R>) {
  const form = useForm<V>({
    defaultValues: start as DefaultValues<V>,
    ...(saves !== undefined ? { values: start, resetOptions: { keepDirtyValues: true } } : {}),
  });
  const doing = useMutation({
    mutationFn: run,
    onSuccess: async (result, values) => {
      if (saves !== undefined) form.reset(kept(values));
      if (again) form.reset();
      else close?.();
      await done?.(result);
    },
  });
  const { isDirty } = form.formState;
  const values = form.watch();
  const off = doing.isPending || (saves !== undefined && !isDirty) || (ready && !ready(values));
  return (
    <FormProvider {...form}>
      <form className={className} onSubmit={form.handleSubmit((v) => doing.mutate(v))}>
        {typeof children === "function" ? children(values, form) : children}
        {doing.error && (
          <div className="mb-3">
            <ErrorNote error={doing.error} />
          </div>
        )}
        <div className={`flex items-center gap-2 ${close ? "justify-end" : ""}`}>
          {close && <Button onClick={close}>{leave}</Button>}
          <Button type="submit" look={look} disabled={off}>
            {submit}
          </Button>
          {saves !== undefined && (
            <span role="status" className="ml-1 text-sm text-soft">
              {isDirty ? "Not saved yet." : doing.isSuccess ? saves : ""}
            </span>
          )}
        </div>
      </form>
    </FormProvider>
  );
}

/** FormDialog is a form in a window of its own. */
export function FormDialog<V extends FieldValues, R>({
  title,
  description,
  close,
  ...form
}: FormProps<V, R> & { title: string; description?: string; close: () => void }) {
  return (
    <Dialog open onOpenChange={(open) => open || close()} title={title} description={description}>
      <Form {...form} close={close} />
    </Dialog>
  );
}

type FieldProps = { name: string; label: string; hint?: string };

export function TextField({ name, label, hint, ...rest }: FieldProps & ComponentProps<"input">) {
  const { register } = useFormContext();
  return (
    <Field label={label} hint={hint}>
      <TextInput {...rest} {...register(name)} />
    </Field>
  );
}

export function AreaField({ name, label, hint, ...rest }: FieldProps & ComponentProps<"textarea">) {
  const { register } = useFormContext();
  return (
    <Field label={label} hint={hint}>
      <TextArea {...rest} {...register(name)} />
    </Field>
  );
}

export function ChoiceField({ name, label, hint, options }: FieldProps & { options: [string, string][] }) {
  const { field } = useController({ name });
  return (
    <Field label={label} hint={hint}>
      <Choice label={label} value={field.value as string} onChange={field.onChange} options={options} />
    </Field>
  );
}

/** PickField chooses one of many by a part of its name. */
export function PickField({
  name,
  label,
  hint,
  ...rest
}: FieldProps & { options: [string, string][]; free?: boolean; placeholder?: string }) {
  const { field } = useController({ name });
  return (
    <Field label={label} hint={hint}>
      <Picker label={label} value={field.value as string} onChange={field.onChange} {...rest} />
    </Field>
  );
}

/** WhenField chooses a day and a time; none is what is said of no choice. */
export function WhenField({ name, label, hint, ...rest }: FieldProps & { none: string; later?: boolean }) {
  const { field } = useController({ name });
  return (
    <div className="mb-3 text-sm">
      <span className="mb-1 block font-medium">{label}</span>
      <When label={label} value={field.value as string} onChange={field.onChange} {...rest} />
      {hint && <span className="mt-1 block text-xs text-soft">{hint}</span>}
    </div>
  );
}

export function TickField({ name, children }: { name: string; children: ReactNode }) {
  const { field } = useController({ name });
  return (
    <Tick checked={field.value as boolean} onChange={field.onChange}>
      {children}
    </Tick>
  );
}
