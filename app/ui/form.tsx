// Forms whose fields say themselves what is wrong: by the schema of what they send, in the browser before it is sent and by what the
// server answers. What was typed stays; the first field with an error is gone to.
import { getFormProps, parse, useForm } from '@conform-to/react';
import { createContext, type ReactNode, type SyntheticEvent, useContext, useEffect, useRef, useState } from 'react';
import type { FetcherFormProps, FetcherWithComponents } from 'react-router';
import type { z } from 'zod';
import { checked, type FieldErrors, withoutChange } from '#contract/checked.ts';
import type { Answer } from '../lib/answer';

const Errors = createContext<FieldErrors>({});
/** Fields in it say what is wrong with them. */
export const WithErrors = Errors.Provider;

/** What is wrong with a field of the form that this is in; undefined where nothing is. */
export const useFieldError = (name: string | undefined): string | undefined => {
  const errors = useContext(Errors);
  return name === undefined ? undefined : errors[name]?.[0];
};

interface FormProps extends FetcherFormProps {
  fetcher: Pick<FetcherWithComponents<unknown>, 'Form'> & { data: Answer | { answer: Answer } | undefined };
  schema: z.ZodType;
  children: ReactNode;
}

/** A form of a fetcher, with the schema that its action reads it by. */
export function Form({ fetcher, schema, children, onSubmit, ...props }: FormProps) {
  const data = fetcher.data && 'answer' in fetcher.data ? fetcher.data.answer : fetcher.data;
  const said = data && !data.ok ? data.fields : undefined;
  const [form] = useForm<Record<string, string>>({
    ...(said ? { lastResult: { status: 'error' as const, error: said } } : {}),
    onValidate: ({ formData }) => parse(formData, { resolve: () => outcome(formData, schema) }),
    shouldValidate: 'onSubmit',
    shouldRevalidate: 'onInput',
  });
  const { onSubmit: validate, ...own } = getFormProps(form);
  const ref = useRef<HTMLFormElement>(null);
  const errors = Object.fromEntries(Object.entries(form.allErrors).map(([name, found]) => [name, found ?? []]));
  // Said at the form's end as well, as what is wrong may be in no field. What the server says is said where its answers are.
  const [first] = Object.values(errors).flat();
  const isAnswered = said !== undefined && JSON.stringify(said) === JSON.stringify(errors);
  // Gone to once it was to be sent, and not while somebody mends another.
  const [attempts, setAttempts] = useState(0);
  const wrong = useRef<string[]>([]);
  useEffect(() => {
    wrong.current = Object.keys(errors);
  });
  useEffect(() => goToFirst(ref.current, wrong.current), [attempts, said]);
  return (
    <fetcher.Form
      {...props}
      {...own}
      ref={ref}
      onSubmit={(event) => {
        validate(event);
        if (!event.defaultPrevented) onSubmit?.(event);
        else if (isByPerson(event)) setAttempts((n) => n + 1);
      }}
    >
      <WithErrors value={errors}>{children}</WithErrors>
      {first !== undefined && !isAnswered && (
        <p role="alert" className="rounded-lg bg-loss-wash px-3 py-2 text-[13px] text-loss">
          {withoutChange(first)}
        </p>
      )}
    </fetcher.Form>
  );
}

/** What is typed is looked through by a sending of its own, with this name; nothing is sent. */
const LOOKED_THROUGH = '__intent__';

const isByPerson = ({ nativeEvent }: SyntheticEvent<HTMLFormElement>): boolean =>
  (nativeEvent as SubmitEvent).submitter?.getAttribute('name') !== LOOKED_THROUGH;

function outcome(formData: FormData, schema: z.ZodType) {
  const found = checked(formData, schema);
  return found.ok ? { value: Object.fromEntries(formData) as Record<string, string> } : { error: found.fields };
}

function goToFirst(form: HTMLFormElement | null, names: readonly string[]): void {
  const first = [...(form?.elements ?? [])].find(
    (element): element is HTMLInputElement =>
      element instanceof HTMLElement && element.tabIndex >= 0 && names.includes(element.getAttribute('name') ?? ''),
  );
  first?.focus();
}
