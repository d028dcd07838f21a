// Fields of forms: a label above, a hint below, and what is wrong while it is typed.

import {
  type FocusEvent,
  type FormEvent,
  type ReactNode,
  createContext,
  useContext,
  useId,
  useState,
} from "react";

type Input = HTMLInputElement | HTMLTextAreaElement | HTMLSelectElement;

/** What the service said of fields, by their names. */
export const FieldProblems = createContext<Record<string, string>>({});

/** What is wrong with a value, by what its field demands; nothing if it is right. */
function wrong(input: Input): string {
  const { validity } = input;
  if (validity.valid) return "";
  if (validity.customError) return input.validationMessage;
  if (validity.valueMissing) return "Fill this in.";
  if (validity.tooShort && "minLength" in input) return `At least ${input.minLength} characters.`;
  if (validity.tooLong && "maxLength" in input) return `At most ${input.maxLength} characters.`;
  if (validity.rangeUnderflow && "min" in input) return `At least ${input.min}.`;
  if (validity.rangeOverflow && "max" in input) return `At most ${input.max}.`;
  if (validity.badInput) return "This is not a number or a date.";
  if (validity.patternMismatch) return input.title || "This has another form.";
  return input.validationMessage;
}

/**
 * Says what is wrong with a field: once it was left or sent, and then with each key. What the
 * service said of it stands until it is changed.
 */
function useCheck(name: string, check?: (value: string) => string) {
  const said = useContext(FieldProblems)[name];
  const [problem, setProblem] = useState("");
  const [answered, setAnswered] = useState<string>();
  const look = (input: Input) => {
    if (check) input.setCustomValidity(check(input.value));
    setProblem(wrong(input));
  };
  return {
    problem: problem || (said !== answered ? said : undefined),
    handlers: {
      onBlur: (event: FocusEvent<Input>) => {
        // An empty field that somebody only passes by is not wrong yet.
        if (event.currentTarget.value) look(event.currentTarget);
      },
      onInput: (event: FormEvent<Input>) => {
        setAnswered(said);
        if (check) event.currentTarget.setCustomValidity(check(event.currentTarget.value));
        if (problem) look(event.currentTarget);
      },
      onInvalid: (event: FormEvent<Input>) => {
        event.preventDefault();
        look(event.currentTarget);
      },
    },
  };
}

/** A label above an input, and below it a hint and what is wrong. */
function Labelled({
  label,
  hint,
  problem,
  children,
}: {
  label: string;
  hint?: string | undefined;
  problem?: string | undefined;
  children: (
    id: string,
    about: { "aria-describedby"?: string; "aria-invalid"?: true },
  ) => ReactNode;
}) {
  const id = useId();
  const described = [hint && `${id}-hint`, problem && `${id}-problem`].filter(Boolean).join(" ");
  return (
    <div>
      <label htmlFor={id} className="block text-sm">
        {label}
      </label>
      {children(id, {
        ...(described && { "aria-describedby": described }),
        ...(problem && { "aria-invalid": true }),
      })}
      {hint && (
        <p id={`${id}-hint`} className="quiet text-sm">
          {hint}
        </p>
      )}
      {problem && (
        <p id={`${id}-problem`} className="text-sm text-error" role="alert">
          {problem}
        </p>
      )}
    </div>
  );
}

export function Field({
  label,
  hint,
  check,
  ...rest
}: {
  label: string;
  name: string;
  hint?: string | undefined;
  /** What is wrong with a value, or nothing. */
  check?: (value: string) => string;
} & React.InputHTMLAttributes<HTMLInputElement>) {
  const { problem, handlers } = useCheck(rest.name, check);
  return (
    <Labelled label={label} hint={hint} problem={problem}>
      {(id, about) => (
        <input
          id={id}
          className={`input input-sm w-full ${problem ? "input-error" : ""}`}
          autoComplete="off"
          {...about}
          {...handlers}
          {...rest}
        />
      )}
    </Labelled>
  );
}

/** A field of several lines. */
export function Lines({
  label,
  hint,
  ...rest
}: {
  label: string;
  name: string;
  hint?: string | undefined;
} & React.TextareaHTMLAttributes<HTMLTextAreaElement>) {
  const { problem, handlers } = useCheck(rest.name);
  return (
    <Labelled label={label} hint={hint} problem={problem}>
      {(id, about) => (
        <textarea
          id={id}
          rows={3}
          className={`textarea textarea-sm w-full ${problem ? "textarea-error" : ""}`}
          autoComplete="off"
          {...about}
          {...handlers}
          {...rest}
        />
      )}
    </Labelled>
  );
}

export function Choice({
  label,
  options,
  hint,
  ...rest
}: {
  label: string;
  name: string;
  options: [string, string][];
  hint?: string;
} & React.SelectHTMLAttributes<HTMLSelectElement>) {
  const { problem, handlers } = useCheck(rest.name);
  return (
    <Labelled label={label} hint={hint} problem={problem}>
      {(id, about) => (
        <select id={id} className="select select-sm w-full" {...about} {...handlers} {...rest}>
          {options.map(([value, text]) => (
            <option key={value} value={value}>
              {text}
            </option>
          ))}
        </select>
      )}
    </Labelled>
  );
}

/** A text field's value out of form data. */
export function text(data: FormData, name: string): string {
  const value = data.get(name);
  return typeof value === "string" ? value : "";
}

/** A field that has one of a few words. */
export const word = <T extends string>(data: FormData, name: string) => text(data, name) as T;
