import { type ReactNode, useRef, useState } from "react";
import { Button } from "./Button";
import styles from "./dropZone.module.css";

interface Props {
  label: string;
  /** What is said before the words "choose files". */
  children: ReactNode;
  /** What is said instead while something is done with the files. */
  busy?: string | null;
  slim?: boolean;
  onFiles: (files: File[]) => void;
}

/** Where files are dropped, or chosen. */
export function DropZone({ label, children, busy, slim, onFiles }: Props) {
  const [over, setOver] = useState(false);
  const input = useRef<HTMLInputElement>(null);
  const give = (files: FileList | null) => {
    const chosen = Array.from(files ?? []);
    if (chosen.length) onFiles(chosen);
  };
  return (
    // biome-ignore lint/a11y/noStaticElementInteractions: dropping is a shortcut; the button does the same
    <div
      className={`drop ${slim ? styles.slim : ""} ${over ? "over" : ""}`}
      onDragOver={(event) => {
        event.preventDefault();
        setOver(true);
      }}
      onDragLeave={() => setOver(false)}
      onDrop={(event) => {
        event.preventDefault();
        setOver(false);
        give(event.dataTransfer.files);
      }}
    >
      {busy ?? (
        <>
          {children}{" "}
          <Button kind="link" onClick={() => input.current?.click()}>
            choose files
          </Button>
        </>
      )}
      <input
        ref={input}
        type="file"
        multiple
        hidden
        aria-label={label}
        onChange={(event) => {
          give(event.target.files);
          event.target.value = "";
        }}
      />
    </div>
  );
}
