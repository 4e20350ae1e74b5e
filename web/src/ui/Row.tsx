import type { ReactNode } from "react";

interface Props {
  label: ReactNode;
  /** Of the control, where the label belongs to one that takes it; else of the label itself. */
  htmlFor?: string;
  id?: string;
  title?: string;
  children: ReactNode;
}

/** A label and what belongs to it, in one line. */
export function Row({ label, htmlFor, id, title, children }: Props) {
  return (
    <div className="row" title={title}>
      {htmlFor ? (
        <label htmlFor={htmlFor}>{label}</label>
      ) : (
        <span className="lab" id={id}>
          {label}
        </span>
      )}
      {children}
    </div>
  );
}

/** A fact that is told and cannot be changed here. */
export const Told = ({ label, children }: { label: string; children: ReactNode }) => (
  <Row label={label}>
    <span className="told">{children}</span>
  </Row>
);
