import { Menu, MenuItem } from "@mui/material";
import { useMemo, useState } from "react";
import { call, type Holding, type Quantity } from "../../../api/client";
import { KEYS } from "../../../api/keys";
import { client, useStart } from "../../../api/queries";
import { dressOf } from "../../../map/ramps";
import { Button } from "../../../ui/Button";
import { useProject } from "../../context";
import { useDeleting } from "../../Deleted";
import { HEIGHT_UNITS, LONGEST_NAME, num, percent, shortUnit, size } from "../../format";
import { WeightIcon } from "../../icons";
import { useDesk } from "../../store";
import { useSettled } from "../../useSettled";
import styles from "./surfaces.module.css";

function accuracyLine(holding: Holding, unit: string) {
  const found = holding.accuracy;
  if (!found) return <span className="mut">not judged</span>;
  if (found.rmse == null)
    return (
      <span className="mut" title={found.reason}>
        not judged
      </span>
    );
  return (
    <span title={`Against ${found.count} checkpoints`}>
      rms <span className="n">{num(found.rmse, 2)}</span> {unit}
    </span>
  );
}

const SHORT: Record<string, string> = {
  void_value: "void value",
  feet: "in feet?",
  degrees: "degrees?",
  bands: "several bands",
};

/** How a quantity is dressed on the desk now, once the hand that changes it rests, for the address of a picture. */
export function useDressOf(quantity: Quantity | undefined): string {
  const look = useDesk((desk) => (quantity ? desk.looks[quantity] : undefined));
  const light = useDesk((desk) => desk.light);
  const dress = useMemo(
    () => (look ? encodeURIComponent(JSON.stringify(dressOf(look, light, quantity === "height"))) : ""),
    [look, light, quantity],
  );
  return useSettled(dress, 600);
}

/** A surface as a shaded picture with its figures, and what can be done with it. */
export function SurfaceCard({ holding }: { holding: Holding }) {
  const project = useProject();
  const quantity = holding.surface?.quantity as Quantity | undefined;
  const dress = useDressOf(quantity);
  const slots = useDesk((desk) => desk.slots);
  const put = useDesk((desk) => desk.put);
  const set = useDesk((desk) => desk.set);
  const start = useStart(project.id);
  const [anchor, setAnchor] = useState<HTMLElement | null>(null);
  const [naming, setNaming] = useState<string | null>(null);
  const [error, setError] = useState("");
  const deleting = useDeleting(holding);
  const inA = slots.a === holding.key;
  const inB = slots.b === holding.key;
  const path = `/projects/${project.id}/holdings/${holding.id}`;
  const open = useDesk((desk) => desk.open);
  const foldedAway = useDesk((desk) => desk.foldedAway);
  const isFolded = foldedAway.includes(holding.id);
  const surface = holding.surface;
  if (!surface) return null;
  const cautions =
    holding.uploaded && !holding.fixed_by ? holding.findings.filter((finding) => finding.weight === "caution") : [];
  const act = async (method: string, body?: unknown) => {
    setAnchor(null);
    try {
      await call(method, path, body);
      setError("");
    } catch (failure) {
      setError((failure as Error).message);
    }
    client.invalidateQueries({ queryKey: KEYS.holdings(project.id) });
  };
  const rename = () => {
    if (naming?.trim() && naming.trim() !== holding.name) act("PATCH", { name: naming.trim() });
    setNaming(null);
  };
  return (
    <article
      className={styles.card}
      data-in={inA ? "a" : inB ? "b" : undefined}
      aria-label={holding.name}
      draggable
      onDragStart={(event) => event.dataTransfer.setData("text/yama-key", holding.key)}
      onMouseEnter={() => set({ hovered: holding.key })}
      onMouseLeave={() => set({ hovered: null })}
      onFocus={() => set({ hovered: holding.key })}
    >
      <div className={styles.pic}>
        <img
          src={`/api${path}/picture?key=${holding.key}&dress=${dress}`}
          loading="lazy"
          alt={`Relief of ${holding.name}`}
          width="112"
          height="112"
        />
        <span className={styles.slots}>
          {inA && <b data-slot="a">A</b>}
          {inB && <b data-slot="b">B</b>}
        </span>
      </div>
      <dl>
        {naming === null ? (
          <dt title={holding.name}>{holding.name}</dt>
        ) : (
          <dt>
            <input
              aria-label="New name"
              // biome-ignore lint/a11y/noAutofocus: the field was just asked for
              autoFocus
              value={naming}
              maxLength={LONGEST_NAME}
              onChange={(event) => setNaming(event.target.value)}
              onBlur={rename}
              onKeyDown={(event) => {
                if (event.key === "Enter") rename();
                if (event.key === "Escape") setNaming(null);
              }}
            />
          </dt>
        )}
        <dd className={styles.lowest}>
          <span className="n">{size(surface.cell_size)}</span> m
        </dd>
        <dd className={styles.kind}>
          <svg width="8" height="8" viewBox="0 0 8 8" aria-hidden="true">
            {holding.live ? <circle cx="4" cy="4" r="3" /> : <rect x="0.5" y="0.5" width="7" height="7" />}
          </svg>
          {holding.live ? "live" : "stored"}
          {surface.unit !== project.frame.unit && HEIGHT_UNITS.some(({ value }) => value === surface.unit) && (
            <span title={`Shown in the frame's unit, ${shortUnit(project.frame.unit)}`}>
              {" "}
              in {shortUnit(surface.unit)}
            </span>
          )}
        </dd>
        <dd>
          <span className="n">{percent(surface.statistics.empty / surface.statistics.cells)}</span> empty
        </dd>
        <dd hidden={cautions.length > 0}>
          {surface.quantity === "height" ? (
            accuracyLine(holding, shortUnit(project.frame.unit))
          ) : (
            <span className="mut">{surface.quantity}</span>
          )}
        </dd>
        {cautions.length > 0 && (
          <dd>
            <Button
              kind="bare"
              className={styles.caution}
              title={cautions.map((finding) => finding.sentence).join(" ")}
              onClick={() => {
                open("Gather", "arrivals");
                set({ inspected: holding.id });
              }}
            >
              <WeightIcon weight="caution" />
              {SHORT[cautions[0]?.code ?? ""] ?? "a caution"}
            </Button>
          </dd>
        )}
      </dl>
      <div className={styles.pick}>
        {(["a", "b"] as const).map((slot) => (
          <Button
            key={slot}
            kind="bare"
            data-slot={slot}
            aria-label={`Put ${holding.name} in ${slot.toUpperCase()}`}
            onClick={() => put(slot, holding.key)}
          >
            {slot.toUpperCase()}
          </Button>
        ))}
      </div>
      <Button
        kind="bare"
        className={styles.more}
        aria-label={`More about ${holding.name}`}
        onClick={(event) => setAnchor(event.currentTarget)}
      >
        …
      </Button>
      <Menu anchorEl={anchor} open={Boolean(anchor)} onClose={() => setAnchor(null)}>
        {holding.live ? (
          <MenuItem
            onClick={() => {
              setAnchor(null);
              start.mutate({ path: `/holdings/${holding.id}/store` });
            }}
          >
            Store surface
          </MenuItem>
        ) : (
          <MenuItem component="a" href={`/api${path}/geotiff`} onClick={() => setAnchor(null)}>
            Download as GeoTIFF
          </MenuItem>
        )}
        {holding.original && (
          <MenuItem component="a" href={`/api${path}/original`} onClick={() => setAnchor(null)}>
            Download the file as it came
          </MenuItem>
        )}
        <MenuItem
          onClick={() => {
            setAnchor(null);
            setNaming(holding.name);
          }}
        >
          Rename
        </MenuItem>
        {!holding.fixed_by && (
          <MenuItem
            onClick={() => {
              setAnchor(null);
              const others = foldedAway.filter((one) => one !== holding.id);
              set({ foldedAway: isFolded ? others : [...others, holding.id] });
            }}
          >
            {isFolded ? "Show again" : "Fold away"}
          </MenuItem>
        )}
        {project.role !== "viewer" && (
          <MenuItem
            sx={{ color: "error.main" }}
            onClick={() => {
              setAnchor(null);
              deleting.ask();
            }}
          >
            Delete
          </MenuItem>
        )}
      </Menu>
      {deleting.dialog}
      {(error || deleting.error) && (
        <div className={styles.failed} role="alert">
          {error || deleting.error}{" "}
          <Button kind="link" onClick={() => setError("")}>
            Close
          </Button>
        </div>
      )}
    </article>
  );
}
