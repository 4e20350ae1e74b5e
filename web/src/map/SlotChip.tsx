import { MenuItem, Select } from "@mui/material";
import { useState } from "react";
import type { Holding } from "../api/client";
import { useHeld } from "../desk/context";
import { size } from "../desk/format";
import { type ShownPreview, type Slot, useDesk } from "../desk/store";

/** What is in A or B, or the preview that lies in its place; to be chosen from a list or dropped onto. */
export function SlotChip(props: { slot: Slot; holding: Holding | undefined; preview?: ShownPreview | null }) {
  const { slot, holding, preview } = props;
  const { surfaces } = useHeld();
  const put = useDesk((desk) => desk.put);
  const [over, setOver] = useState(false);
  const name = slot.toUpperCase();
  return (
    // biome-ignore lint/a11y/noStaticElementInteractions: dropping is a shortcut; the list inside does the same
    <div
      className={`slotchip ${slot} ${over ? "over" : ""}`}
      onDragOver={(event) => {
        event.preventDefault();
        setOver(true);
      }}
      onDragLeave={() => setOver(false)}
      onDrop={(event) => {
        setOver(false);
        const key = event.dataTransfer.getData("text/yama-key");
        if (key) put(slot, key);
      }}
    >
      <b>{name}</b>
      <Select
        variant="standard"
        disableUnderline
        displayEmpty
        value={holding?.key ?? ""}
        onChange={(event) => put(slot, event.target.value || null)}
        inputProps={{ "aria-label": `Surface in ${name}` }}
        renderValue={() =>
          preview?.of ? (
            <span className="mut">
              preview of <em>{preview.of}</em>
            </span>
          ) : holding ? (
            <>
              <em>{holding.name}</em> <span className="n">{size(holding.surface?.cell_size ?? 0)} m</span>
            </>
          ) : (
            <span className="mut">empty</span>
          )
        }
      >
        <MenuItem value="">empty</MenuItem>
        {surfaces.map((one) => (
          <MenuItem key={one.key} value={one.key}>
            {one.name}&nbsp;<span className="mut n">{size(one.surface?.cell_size ?? 0)} m</span>
          </MenuItem>
        ))}
      </Select>
    </div>
  );
}
