import { MenuItem, Select } from "@mui/material";
import { Entry } from "../../../ui/Entry";
import { useHeld } from "../../context";
import { num } from "../../format";
import { useDesk } from "../../store";
import { foldedOf, KINDS, listed, ORDERS, type SurfaceKind, type SurfaceOrder } from "./list";
import styles from "./surfaces.module.css";

/** Up to so many surfaces are seen at a glance. */
const FEW = 6;

/** Finds, filters and orders the surfaces in the strip, once they are more than are seen at a glance. */
export function SurfaceTools() {
  const { surfaces } = useHeld();
  const slots = useDesk((desk) => desk.slots);
  const folded = useDesk((desk) => desk.foldedAway);
  const sift = useDesk((desk) => desk.sift);
  const order = useDesk((desk) => desk.surfaceOrder);
  const set = useDesk((desk) => desk.set);
  const looked = [slots.a, slots.b];
  const away = foldedOf(surfaces, { folded, looked });
  if (surfaces.length <= FEW && away === 0)
    return surfaces.length > 0 ? (
      <span className="hint">
        Newest first. Point at a picture and press <kbd>A</kbd> or <kbd>B</kbd>
      </span>
    ) : null;
  const count = (kind: SurfaceKind) =>
    listed(surfaces, { text: "", kind, order, folded, looked }).flatMap(({ holdings }) => holdings).length;
  return (
    <div className={styles.tools} role="search" aria-label="Surfaces">
      <span className={styles.find}>
        <Entry
          label="Find a surface"
          placeholder="Find a surface"
          value={sift.text}
          onChange={(text) => set({ sift: { ...sift, text } })}
        />
      </span>
      <Select
        variant="standard"
        disableUnderline
        value={sift.kind}
        onChange={(event) => set({ sift: { ...sift, kind: event.target.value as SurfaceKind } })}
        inputProps={{ "aria-label": "Which kinds" }}
      >
        {Object.entries(KINDS).map(([kind, title]) => (
          <MenuItem key={kind} value={kind} disabled={count(kind as SurfaceKind) === 0}>
            {title}&nbsp;<span className="mut n">{num(count(kind as SurfaceKind))}</span>
          </MenuItem>
        ))}
      </Select>
      <Select
        variant="standard"
        disableUnderline
        value={order}
        onChange={(event) => set({ surfaceOrder: event.target.value as SurfaceOrder })}
        inputProps={{ "aria-label": "In which order" }}
      >
        {Object.entries(ORDERS).map(([name, title]) => (
          <MenuItem key={name} value={name}>
            {title}
          </MenuItem>
        ))}
      </Select>
    </div>
  );
}
