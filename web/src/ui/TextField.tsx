import { useId } from "react";
import { Entry } from "./Entry";
import { Row } from "./Row";

interface Props {
  label: string;
  value: string;
  onChange: (text: string) => void;
  placeholder?: string;
  maxLength?: number;
  title?: string;
  /** When it is left, or Enter says that it is whole. */
  onLeave?: () => unknown;
  /** Proposals, each with a word on it. */
  proposals?: { value: string; title: string }[];
}

/** A line of text on one row with its label. */
export function TextField({ label, value, onChange, placeholder, maxLength, title, onLeave, proposals }: Props) {
  const id = useId();
  return (
    <Row label={label} htmlFor={id} title={title}>
      <Entry
        id={id}
        value={value}
        onChange={onChange}
        placeholder={placeholder}
        maxLength={maxLength}
        onBlur={onLeave}
        onEnter={onLeave}
        list={proposals && `${id}-list`}
      />
      {proposals && (
        <datalist id={`${id}-list`}>
          {proposals.map((one) => (
            <option key={one.value} value={one.value}>
              {one.title}
            </option>
          ))}
        </datalist>
      )}
    </Row>
  );
}
