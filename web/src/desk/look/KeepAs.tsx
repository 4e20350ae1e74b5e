import { useId, useState } from "react";
import { Button } from "../../ui/Button";

/** A name to keep something under; not one that is taken. */
export function KeepAs(props: { label: string; taken?: string[]; onKeep: (name: string) => void }) {
  const [name, setName] = useState("");
  const id = useId();
  const called = name.trim();
  return (
    <div className="row">
      <label htmlFor={id}>{props.label}</label>
      <span className="field">
        <input id={id} className="text" maxLength={24} value={name} onChange={(event) => setName(event.target.value)} />
      </span>
      <Button
        disabled={!called || props.taken?.includes(called)}
        onClick={() => {
          props.onKeep(called);
          setName("");
        }}
      >
        Keep
      </Button>
    </div>
  );
}
