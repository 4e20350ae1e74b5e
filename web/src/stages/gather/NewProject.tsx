import { useMutation } from "@tanstack/react-query";
import { useRef, useState } from "react";
import { call, type Extent, type Project, type Proposal, sendForExtent, type TableLook } from "../../api/client";
import { KEYS } from "../../api/keys";
import { client } from "../../api/queries";
import { HEIGHT_UNITS, LONGEST_NAME, many, num, parse } from "../../desk/format";
import { useDesk } from "../../desk/store";
import { Button } from "../../ui/Button";
import { Choice } from "../../ui/Choice";
import { Section, Sheet } from "../../ui/Sheet";
import { AreaOfUse, useAreaOfUse } from "./AreaOfUse";
import { ColumnMatch } from "./ColumnMatch";
import { CrsChoice } from "./CrsChoice";

const FIELDS = [
  ["cell_size", "Cell size"],
  ["west", "West"],
  ["south", "South"],
  ["east", "East"],
  ["north", "North"],
] as const;

/** A file that does not say where it lies, and how it was read if it is a table. */
interface Unplaced {
  file: File;
  table: TableLook | null;
  reason: string;
}

/** A new project with its frame: proposed from files, or typed. */
export function NewProject({ open }: { open: (id: number) => void }) {
  const openStage = useDesk((desk) => desk.open);
  const [name, setName] = useState("");
  const [crs, setCrs] = useState("");
  const [datum, setDatum] = useState("");
  const [values, setValues] = useState<Record<string, string>>({});
  const [extents, setExtents] = useState<Extent[]>([]);
  const [heights, setHeights] = useState("m");
  const [reasons, setReasons] = useState<string[]>([]);
  const [over, setOver] = useState(false);
  const [unplaced, setUnplaced] = useState<Unplaced[]>([]);
  const input = useRef<HTMLInputElement>(null);
  const parsed = Object.fromEntries(FIELDS.map(([key]) => [key, parse(values[key] ?? "")])) as Record<
    string,
    number | null
  >;
  const { use, unit, area } = useAreaOfUse(crs, parsed);
  const ready = name.trim() && crs.trim() && FIELDS.every(([key]) => parsed[key] !== null);
  const cells =
    parsed.cell_size && FIELDS.every(([key]) => parsed[key] !== null)
      ? (((parsed.east ?? 0) - (parsed.west ?? 0)) / parsed.cell_size) *
        (((parsed.north ?? 0) - (parsed.south ?? 0)) / parsed.cell_size)
      : null;
  const fill = (found: Proposal) => {
    setCrs(found.crs);
    setReasons(found.reasons);
    setValues(Object.fromEntries(FIELDS.map(([key]) => [key, String(Math.round(found[key] * 1e6) / 1e6)])));
  };
  const propose = useMutation({
    mutationFn: (found: Extent[]) => call<Proposal>("POST", "/frames/propose", { extents: found }),
    onSuccess: fill,
  });
  const place = (found: Extent[]) => {
    setExtents(found);
    if (found.length) propose.mutate(found);
  };
  // one file that does not say where it lies is no reason to leave the others
  const look = useMutation({
    mutationFn: async (files: File[]) => {
      const found = [...extents];
      for (const file of files)
        try {
          const { extent, table, reason } = await sendForExtent(file);
          if (extent) found.push(extent);
          else setUnplaced((before) => [...before, { file, table: table ?? null, reason }]);
        } catch (error) {
          setUnplaced((before) => [...before, { file, table: null, reason: (error as Error).message }]);
        }
      return found;
    },
    onSuccess: place,
  });
  const leave = (file: File) => setUnplaced((before) => before.filter((one) => one.file !== file));
  const make = useMutation({
    mutationFn: () =>
      call<Project>("POST", "/projects", {
        name,
        frame: { crs, ...parsed, unit: heights, vertical_datum: datum.trim() },
      }),
    onSuccess: async (project) => {
      await client.invalidateQueries({ queryKey: KEYS.projects() });
      openStage("Gather");
      open(project.id);
    },
  });
  const error = make.error ?? propose.error;
  const take = (files: FileList | null) => {
    const chosen = Array.from(files ?? []);
    if (chosen.length) look.mutate(chosen);
  };
  return (
    <Sheet
      stage="Gather"
      title="New project"
      lead="The frame answers once for CRS, cell size and area; everything is built onto it."
      foot={
        <>
          {error && (
            <p className="said">
              <span className="err" role="alert">
                {error.message}
              </span>
            </p>
          )}
          <div className="est">
            <span>Frame</span>
            <b>{cells && cells > 0 ? <span className="n">{many(cells)} cells</span> : ""}</b>
          </div>
          <div className="go">
            <span />
            <Button kind="primary" disabled={!ready || make.isPending} onClick={() => make.mutate()}>
              Make project
            </Button>
          </div>
        </>
      }
    >
      <Section title="Project">
        <div className="row">
          <label htmlFor="project-name">Name</label>
          <span className="field">
            <input
              id="project-name"
              className="text"
              maxLength={LONGEST_NAME}
              value={name}
              onChange={(e) => setName(e.target.value)}
            />
          </span>
        </div>
      </Section>
      <Section title="Propose the frame">
        {/* biome-ignore lint/a11y/noStaticElementInteractions: dropping is a shortcut; the button does the same */}
        <div
          className={`drop slim ${over ? "over" : ""}`}
          onDragOver={(event) => {
            event.preventDefault();
            setOver(true);
          }}
          onDragLeave={() => setOver(false)}
          onDrop={(event) => {
            event.preventDefault();
            setOver(false);
            take(event.dataTransfer.files);
          }}
        >
          {look.isPending || propose.isPending ? (
            "Looking where they lie."
          ) : (
            <>
              Drop a boundary and the data here, or{" "}
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
            aria-label="Files to propose a frame from"
            onChange={(event) => {
              take(event.target.files);
              event.target.value = "";
            }}
          />
        </div>
        {unplaced.map(({ file, table, reason }) =>
          table ? (
            <div key={file.name}>
              <p className="fail" role="alert">
                {reason} Say how it is read, or leave it; the other files go on.
              </p>
              <ColumnMatch
                table={table}
                crs=""
                action="Place it"
                look={async (declared) => (await sendForExtent(file, declared, true)).table as TableLook}
                take={async (declared) => {
                  const placed = await sendForExtent(file, declared);
                  if (!placed.extent) throw new Error(placed.reason);
                  return placed.extent;
                }}
                onTaken={(extent) => {
                  leave(file);
                  place([...extents, extent]);
                }}
                onLeave={() => leave(file)}
              />
            </div>
          ) : (
            <p className="fail" role="alert" key={file.name}>
              {reason}{" "}
              <Button kind="link" onClick={() => leave(file)}>
                Leave it
              </Button>
            </p>
          ),
        )}
        {extents.length > 0 && (
          <ul className="reasons" aria-label="Why this frame">
            {reasons.map((reason) => (
              <li key={reason}>{reason}</li>
            ))}
          </ul>
        )}
      </Section>
      <Section title="Frame">
        <CrsChoice value={crs} onChange={setCrs} />
        <AreaOfUse use={use} fix={{ crs, area, cellSize: parsed.cell_size, onProposal: fill }} />
        {FIELDS.map(([key, title]) => (
          <div className="row" key={key}>
            <label htmlFor={`frame-${key}`}>{title}</label>
            <span className={`field ${values[key] && parsed[key] === null ? "bad" : ""}`}>
              <input
                id={`frame-${key}`}
                inputMode="decimal"
                value={values[key] ?? ""}
                onChange={(e) => setValues({ ...values, [key]: e.target.value })}
              />
              <span className="u">{unit}</span>
            </span>
          </div>
        ))}
        <Choice label="Heights in" value={heights} options={HEIGHT_UNITS} onChange={setHeights} />
        <div className="row">
          <label htmlFor="frame-datum">Zero level</label>
          <span className="field">
            <input
              id="frame-datum"
              className="text"
              value={datum}
              placeholder="vertical datum, if known"
              onChange={(e) => setDatum(e.target.value)}
            />
          </span>
        </div>
        {cells !== null && cells > 0 && (
          <p className="mut">
            <span className="n">
              {num(((parsed.east ?? 0) - (parsed.west ?? 0)) / (parsed.cell_size ?? 1))} ×{" "}
              {num(((parsed.north ?? 0) - (parsed.south ?? 0)) / (parsed.cell_size ?? 1))}
            </span>{" "}
            cells, on whole multiples of the cell size
          </p>
        )}
      </Section>
    </Sheet>
  );
}
