import { LONGEST_NAME } from "../desk/format";
import { TextField } from "./TextField";

interface Props {
  value: string;
  usual: string;
  onChange: (name: string) => void;
}

/** What the result will be called; the usual name where nothing is typed. */
export const NameRow = ({ value, usual, onChange }: Props) => (
  <TextField label="Name" value={value} placeholder={usual} maxLength={LONGEST_NAME} onChange={onChange} />
);
