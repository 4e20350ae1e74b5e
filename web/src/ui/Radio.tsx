import { Radio as Round } from "@mui/material";
import { type ReactNode, useId } from "react";

const ring = (
  <svg viewBox="0 0 13 13" aria-hidden="true">
    <circle cx="6.5" cy="6.5" r="6" fill="#fff" stroke="currentColor" />
  </svg>
);
const full = (
  <svg viewBox="0 0 13 13" aria-hidden="true">
    <circle cx="6.5" cy="6.5" r="5.8" fill="#fff" stroke="currentColor" strokeWidth="1.4" />
    <circle cx="6.5" cy="6.5" r="3" fill="currentColor" />
  </svg>
);

interface Props {
  /** What is chosen among: the same for all that exclude one another. */
  group: string;
  checked: boolean;
  onChoose: () => void;
}

interface RadioProps extends Props {
  /** What its label is for. */
  id: string;
}

/** One of several that exclude one another; it stands inside its label. */
export const Radio = ({ id, group, checked, onChoose }: RadioProps) => (
  <Round id={id} icon={ring} checkedIcon={full} name={group} checked={checked} onChange={onChoose} />
);

interface CardProps extends Props {
  className: string;
  title?: string;
  children: ReactNode;
}

/** The same where its whole label shows that it is chosen: the ring is not drawn. */
export function Card({ className, title, children, group, checked, onChoose }: CardProps) {
  const id = useId();
  return (
    <label className={className} title={title} htmlFor={id}>
      <Round id={id} className="unseen" name={group} checked={checked} onChange={onChoose} />
      {children}
    </label>
  );
}
