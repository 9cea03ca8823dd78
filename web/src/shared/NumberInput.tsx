// A number that is typed: what is none yet, or out of its limits, stays in sight and changes nothing until it is right.
import { type InputHTMLAttributes, useEffect, useRef, useState } from "react";

type Plain = Omit<
  InputHTMLAttributes<HTMLInputElement>,
  "value" | "onChange" | "type" | "min" | "max" | "step"
>;
type Limits = {
  min?: number | undefined;
  max?: number | undefined;
  over?: number | undefined;
  under?: number | undefined;
};
type Props = Plain &
  Limits & {
    value: number | null | undefined;
    whole?: boolean;
    onChange: (value: number) => void;
    /** Where it may be empty: what that means to whoever asks. */
    onEmpty?: (() => void) | undefined;
  };

/** What is wrong with a number that the browser does not tell by itself; nothing where it is right. */
const outside = (value: number, { over, under }: Limits) =>
  over !== undefined && value <= over
    ? `Value must be greater than ${over}.`
    : under !== undefined && value >= under
      ? `Value must be less than ${under}.`
      : "";

const limits = ({ min, max, over, under }: Limits) =>
  [
    over === undefined ? min !== undefined && `from ${min}` : `over ${over}`,
    under === undefined ? max !== undefined && `to ${max}` : `under ${under}`,
  ]
    .filter(Boolean)
    .join(" ") || undefined;

export function NumberInput({ value, min, max, over, under, whole, onChange, onEmpty, ...plain }: Props) {
  const [typed, setTyped] = useState<string | null>(null);
  const box = useRef<HTMLInputElement>(null);
  // what comes from elsewhere, such as a point picked in the view, takes the place of what was left there
  useEffect(() => {
    void value;
    if (document.activeElement === box.current) return;
    box.current?.setCustomValidity("");
    setTyped(null);
  }, [value]);
  return (
    <input
      ref={box}
      title={limits({ min, max, over, under })}
      {...plain}
      type="number"
      step={whole ? 1 : "any"}
      min={min}
      max={max}
      required={!onEmpty}
      value={typed ?? String(value ?? "")}
      onChange={({ target }) => {
        setTyped(target.value);
        target.setCustomValidity(target.value && outside(Number(target.value), { over, under }));
        if (!target.validity.valid) return;
        if (target.value === "") onEmpty?.();
        else onChange(Number(target.value));
      }}
      onBlur={({ target }) => {
        // in a form it stays, and what sends the form says what is wrong
        if (target.form && !target.validity.valid) return;
        target.setCustomValidity("");
        setTyped(null);
      }}
    />
  );
}
