import { useMemo } from "react";
import { useProject } from "../desk/context";
import { num } from "../desk/format";
import { useOverlay } from "../desk/overlays";
import type { Place } from "../map/shapes";
import { useTool } from "../tools/useTool";
import { Button } from "../ui/Button";
import { Row } from "../ui/Row";

interface Props {
  label: string;
  title?: string;
  value: Place[];
  most: number;
  onChange: (places: Place[]) => void;
}

/** Places in the frame's CRS, pressed on the map. */
export function PlacesField({ label, title, value, most, onChange }: Props) {
  const { frame } = useProject();
  const digits = frame.cell_size < 0.01 ? 7 : 2;
  const press = useTool("pick", ({ x, y }) => {
    if (value.length < most) onChange([...value, [Number(x.toFixed(digits)), Number(y.toFixed(digits))]]);
  });
  const shown = useMemo(() => (value.length ? value : null), [value]);
  useOverlay("places", shown);
  return (
    <Row label={label} title={title}>
      <span className="acts">
        <span className="n">{value.length ? num(value.length) : "none"}</span>
        <Button kind="link" aria-pressed={press.inHand} onClick={() => press.put(!press.inHand)}>
          {press.inHand ? "Press no more" : "Press on the map"}
        </Button>
        {value.length > 0 && (
          <Button kind="link" onClick={() => onChange([])}>
            Forget {value.length === 1 ? "it" : "them"}
          </Button>
        )}
      </span>
    </Row>
  );
}
