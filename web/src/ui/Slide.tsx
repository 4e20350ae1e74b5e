import { Slider } from "@mui/material";
import { useId } from "react";
import { Row } from "./Row";

interface Props {
  label: string;
  /** Lowest, highest, and the step between two places. */
  range: [number, number, number];
  value: number;
  /** The figure beside it. */
  shown: string;
  onChange: (value: number) => void;
  /** When the pointer lets go. */
  onDone?: (value: number) => void;
}

/** A number that is slid along its range, on one row with its label. */
export function Slide({ label, range: [min, max, step], value, shown, onChange, onDone }: Props) {
  const id = useId();
  return (
    <Row label={label} id={id}>
      <Slider
        aria-labelledby={id}
        min={min}
        max={max}
        step={step}
        value={value}
        onChange={(_, next) => onChange(next as number)}
        onChangeCommitted={(_, next) => onDone?.(next as number)}
      />
      <span className="n">{shown}</span>
    </Row>
  );
}
