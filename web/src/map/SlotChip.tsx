import { ButtonBase, ListItemButton, Popover } from "@mui/material";
import useAutocomplete from "@mui/material/useAutocomplete";
import { useMemo, useRef, useState } from "react";
import type { Holding } from "../api/client";
import { useHeld } from "../desk/context";
import { size } from "../desk/format";
import { sourcesOf } from "../desk/products";
import { type ShownPreview, type Slot, useDesk } from "../desk/store";
import { isNamed } from "../desk/tabs/surfaces/list";
import styles from "./slotchip.module.css";

interface Choice {
  key: string;
  name: string;
  cell: number | null;
  /** The product that it is a tile of; empty where it stands alone. */
  product: string;
}

const EMPTY: Choice = { key: "", name: "empty", cell: null, product: "" };

/** Surfaces to choose from, tiles below what stands alone; empty is first. */
function choicesOf(surfaces: Holding[]): Choice[] {
  const sources = sourcesOf(surfaces);
  const choices = (of: typeof sources, isProduct: boolean) =>
    of.flatMap(({ name, holdings }) =>
      holdings.map((one) => ({
        key: one.key,
        name: one.name,
        cell: one.surface?.cell_size ?? null,
        product: isProduct ? name : "",
      })),
    );
  const [alone, products] = [
    sources.filter(({ holdings }) => holdings.length === 1),
    sources.filter(({ holdings }) => holdings.length > 1),
  ];
  return [EMPTY, ...choices(alone, false), ...choices(products, true)];
}

/** Surfaces to choose from, with a field to find one by its name. */
function SurfaceList({ slot, at, onDone }: { slot: Slot; at: string; onDone: () => void }) {
  const { surfaces } = useHeld();
  const put = useDesk((desk) => desk.put);
  const [text, setText] = useState("");
  const options = useMemo(() => choicesOf(surfaces), [surfaces]);
  const list = useAutocomplete({
    id: `surfaces-in-${slot}`,
    options,
    open: true,
    value: options.find((one) => one.key === at) ?? EMPTY,
    inputValue: text,
    autoHighlight: true,
    disableClearable: true,
    getOptionLabel: ({ name }) => name,
    getOptionKey: ({ key }) => key,
    groupBy: ({ product }) => product,
    filterOptions: (all, { inputValue }) => all.filter(({ name }) => isNamed(name, inputValue)),
    onInputChange: (_, typed, reason) => reason === "input" && setText(typed),
    onChange: (_, chosen) => put(slot, chosen.key || null),
    // also where what is there already is chosen
    onClose: (_, reason) => (reason === "selectOption" || reason === "escape") && onDone(),
  });
  const groups = list.groupedOptions as unknown as { key: number; group: string; options: Choice[]; index: number }[];
  return (
    <div className={styles.choice} {...list.getRootProps()}>
      <input
        {...list.getInputProps()}
        className={styles.find}
        // biome-ignore lint/a11y/noAutofocus: the list was just asked for
        autoFocus
        aria-label={`Find a surface for ${slot.toUpperCase()}`}
        placeholder="Find a surface"
      />
      <ul {...list.getListboxProps()} className={styles.list} aria-label={`Surfaces for ${slot.toUpperCase()}`}>
        {groups.map(({ key, group, options: of, index }) => (
          <li key={key} role="presentation">
            {group && <p className={styles.product}>{group}</p>}
            <ul role="presentation">
              {of.map((one, i) => {
                const { key: _, ...option } = list.getOptionProps({ option: one, index: index + i });
                return (
                  <ListItemButton key={one.key} component="li" {...option} dense selected={one.key === at}>
                    {one.name}
                    {one.cell !== null && (
                      <>
                        &nbsp;<span className="mut n">{size(one.cell)} m</span>
                      </>
                    )}
                  </ListItemButton>
                );
              })}
            </ul>
          </li>
        ))}
        {!groups.length && <li className={styles.none}>No surface is called so.</li>}
      </ul>
    </div>
  );
}

/** What is in A or B, or the preview that lies in its place; to be chosen from a list or dropped onto. */
export function SlotChip(props: { slot: Slot; holding: Holding | undefined; preview?: ShownPreview | null }) {
  const { slot, holding, preview } = props;
  const put = useDesk((desk) => desk.put);
  const [over, setOver] = useState(false);
  const [open, setOpen] = useState(false);
  const chip = useRef<HTMLDivElement>(null);
  const name = slot.toUpperCase();
  return (
    // biome-ignore lint/a11y/noStaticElementInteractions: dropping is a shortcut; the list inside does the same
    <div
      ref={chip}
      className={styles.chip}
      data-slot={slot}
      data-over={over || undefined}
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
      <ButtonBase
        className={styles.chosen}
        role="combobox"
        aria-label={`Surface in ${name}`}
        aria-haspopup="listbox"
        aria-expanded={open}
        onClick={() => setOpen(true)}
      >
        {preview?.of ? (
          <span className="mut">
            preview of <em>{preview.of}</em>
          </span>
        ) : holding ? (
          <>
            <em>{holding.name}</em> <span className="n">{size(holding.surface?.cell_size ?? 0)} m</span>
          </>
        ) : (
          <span className="mut">empty</span>
        )}
        <svg viewBox="0 0 8 5" width="8" height="5" aria-hidden="true">
          <path d="M0 0h8L4 5z" />
        </svg>
      </ButtonBase>
      <Popover
        open={open}
        anchorEl={chip.current}
        onClose={() => setOpen(false)}
        anchorOrigin={{ vertical: "bottom", horizontal: slot === "a" ? "left" : "right" }}
        transformOrigin={{ vertical: "top", horizontal: slot === "a" ? "left" : "right" }}
      >
        <SurfaceList slot={slot} at={holding?.key ?? ""} onDone={() => setOpen(false)} />
      </Popover>
    </div>
  );
}
