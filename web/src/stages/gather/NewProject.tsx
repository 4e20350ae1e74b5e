import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { call, type Extent, type Project, type Proposal, sendForExtent, type TableLook } from "../../api/client";
import { KEYS } from "../../api/keys";
import { client } from "../../api/queries";
import { LONGEST_NAME, many, num } from "../../desk/format";
import { useDesk } from "../../desk/store";
import { Button } from "../../ui/Button";
import { DropZone } from "../../ui/DropZone";
import { Section, Sheet } from "../../ui/Sheet";
import { TextField } from "../../ui/TextField";
import { ColumnMatch } from "./ColumnMatch";
import { FrameFields, filled, parsedSides, SIDES, type Typed } from "./FrameFields";

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
  const [typed, setTyped] = useState<Typed>({ crs: "", sides: {}, heights: "m", datum: "" });
  const [extents, setExtents] = useState<Extent[]>([]);
  const [reasons, setReasons] = useState<string[]>([]);
  const [unplaced, setUnplaced] = useState<Unplaced[]>([]);
  const parsed = parsedSides(typed);
  const isWhole = SIDES.every(([key]) => parsed[key] !== null);
  const ready = name.trim() && typed.crs.trim() && isWhole;
  const cells =
    parsed.cell_size && isWhole
      ? (((parsed.east ?? 0) - (parsed.west ?? 0)) / parsed.cell_size) *
        (((parsed.north ?? 0) - (parsed.south ?? 0)) / parsed.cell_size)
      : null;
  const fill = (found: Proposal) => {
    setTyped((before) => filled(found, before));
    setReasons(found.reasons);
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
        frame: { crs: typed.crs, ...parsed, unit: typed.heights, vertical_datum: typed.datum.trim() },
      }),
    onSuccess: async (project) => {
      await client.invalidateQueries({ queryKey: KEYS.projects() });
      openStage("Gather");
      open(project.id);
    },
  });
  const error = make.error ?? propose.error;
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
        <TextField label="Name" value={name} maxLength={LONGEST_NAME} onChange={setName} />
      </Section>
      <Section title="Propose the frame">
        <DropZone
          slim
          label="Files to propose a frame from"
          busy={look.isPending || propose.isPending ? "Looking where they lie." : null}
          onFiles={look.mutate}
        >
          Drop a boundary and the data here, or
        </DropZone>
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
        <FrameFields typed={typed} onChange={setTyped} onProposal={fill} />
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
