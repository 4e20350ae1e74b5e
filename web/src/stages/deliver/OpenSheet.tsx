import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { call, type Share } from "../../api/client";
import { KEYS } from "../../api/keys";
import { client } from "../../api/queries";
import { quantityOf, useHeld, useProject } from "../../desk/context";
import { useDesk } from "../../desk/store";
import { dressOf } from "../../map/ramps";
import { Button } from "../../ui/Button";
import { Entry } from "../../ui/Entry";
import { Section, Sheet } from "../../ui/Sheet";
import { HoldingChoice } from "../HoldingChoice";

/** Surfaces that other programs read from here, each under an address that can be closed again. */
export function OpenSheet() {
  const project = useProject();
  const { surfaces, a } = useHeld();
  const looks = useDesk((desk) => desk.looks);
  const light = useDesk((desk) => desk.light);
  const [chosen, setChosen] = useState<number | null>(null);
  const canOpen = project.role !== "viewer";
  const key = KEYS.shares(project.id);
  const { data: shares = [] } = useQuery({
    queryKey: key,
    queryFn: () => call<Share[]>("GET", `/projects/${project.id}/shares`),
    enabled: canOpen,
  });
  const again = () => client.invalidateQueries({ queryKey: key });
  const held = surfaces.find((one) => one.id === chosen) ?? a ?? surfaces[0];
  const open = useMutation({
    mutationFn: () => {
      const quantity = quantityOf(held);
      const dress = dressOf(looks[quantity], light, quantity === "height");
      return call<Share>("POST", `/projects/${project.id}/shares`, { holding: held?.id, dress });
    },
    onSettled: again,
  });
  const close = useMutation({
    mutationFn: (id: number) => call("DELETE", `/projects/${project.id}/shares/${id}`),
    onSettled: again,
  });
  if (!canOpen || !held)
    return (
      <Sheet stage="Deliver" title="Open to other programs">
        <p className="remark">
          {canOpen
            ? "No surface yet. Add or order tiles in Gather, or make one in Build."
            : "Only editors and owners open surfaces."}
        </p>
      </Sheet>
    );
  const failed = open.error ?? close.error;
  return (
    <Sheet
      stage="Deliver"
      title="Open to other programs"
      lead="A surface gets an address: its tiles as WMTS, dressed as on the desk now, and its cells as a file read by ranges. Whoever has the address reads it, without signing in, until it is closed."
    >
      <Section title="Surface">
        <HoldingChoice label="Surface" holdings={surfaces} value={held.id} onChange={setChosen} />
        <p className="acts">
          <Button kind="primary" disabled={open.isPending} onClick={() => open.mutate()}>
            Open it
          </Button>
        </p>
        {failed && (
          <p className="err" role="alert">
            {failed.message}
          </p>
        )}
      </Section>
      {shares.length > 0 && (
        <Section title="Open now" aside={String(shares.length)}>
          <ul className="shares" aria-label="Open now">
            {shares.map((one) => (
              <li key={one.id}>
                <span>
                  <b>{one.name}</b>
                  <Button kind="link" onClick={() => close.mutate(one.id)}>
                    Close
                  </Button>
                </span>
                <Address label="WMTS" value={one.wmts} />
                {one.file ? (
                  <Address label="Cells" value={one.file} />
                ) : (
                  <small>live: no file until it is stored</small>
                )}
              </li>
            ))}
          </ul>
        </Section>
      )}
    </Sheet>
  );
}

/** An address that can be selected or copied. */
function Address({ label, value }: { label: string; value: string }) {
  const [copied, setCopied] = useState(false);
  return (
    <span className="address">
      <small>{label}</small>
      <Entry readOnly whole label={`${label} address`} value={value} />
      <Button
        kind="link"
        onClick={async () => {
          await navigator.clipboard?.writeText(value);
          setCopied(true);
        }}
      >
        {copied ? "copied" : "Copy"}
      </Button>
    </span>
  );
}
