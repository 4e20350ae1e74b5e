import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { call, type Project, type Proposal } from "../../api/client";
import { KEYS } from "../../api/keys";
import { client } from "../../api/queries";
import { useHeld, useProject } from "../../desk/context";
import { HEIGHT_UNITS, num, parse, size } from "../../desk/format";
import { Button } from "../../ui/Button";
import { Choice } from "../../ui/Choice";
import { Section, Sheet } from "../../ui/Sheet";
import { AreaOfUse, useAreaOfUse } from "./AreaOfUse";
import { CrsChoice } from "./CrsChoice";

const FIELDS = [
  ["cell_size", "Cell size"],
  ["west", "West"],
  ["south", "South"],
  ["east", "East"],
  ["north", "North"],
] as const;

/** The frame of the open project: what it says, what the data would propose, and changing it. */
export function FrameSheet() {
  const project = useProject();
  const { all } = useHeld();
  const frame = project.frame;
  const grid = frame.grid;
  const now: Record<string, number> = {
    cell_size: grid.cell_width,
    west: grid.west,
    south: grid.north - grid.rows * grid.cell_height,
    east: grid.west + grid.cols * grid.cell_width,
    north: grid.north,
  };
  const [crs, setCrs] = useState(grid.crs);
  const [values, setValues] = useState<Record<string, string>>(
    Object.fromEntries(FIELDS.map(([key]) => [key, String(now[key])])),
  );
  const [datum, setDatum] = useState(frame.vertical_datum);
  const [heights, setHeights] = useState(frame.unit);
  const { data: proposal, error: none } = useQuery({
    queryKey: KEYS.proposal(project.id, all.length),
    queryFn: () => call<Proposal>("GET", `/projects/${project.id}/frame/proposal`),
    retry: false,
  });
  const parsed = Object.fromEntries(FIELDS.map(([key]) => [key, parse(values[key] ?? "")]));
  const { use, unit, area } = useAreaOfUse(crs, parsed);
  const fill = (found: Proposal) => {
    setCrs(found.crs);
    setValues(Object.fromEntries(FIELDS.map(([key]) => [key, String(found[key])])));
  };
  const changed =
    crs !== grid.crs ||
    heights !== frame.unit ||
    datum !== frame.vertical_datum ||
    FIELDS.some(([key]) => parsed[key] !== now[key]);
  const built = all.filter((one) => one.recipe);
  const keep = useMutation({
    mutationFn: () =>
      call<Project>("PUT", `/projects/${project.id}/frame`, {
        crs,
        ...parsed,
        unit: heights,
        vertical_datum: datum,
      }),
    onSuccess: () => {
      client.invalidateQueries({ queryKey: KEYS.projects() });
      client.invalidateQueries({ queryKey: KEYS.holdings(project.id) });
    },
  });
  const mayChange = project.role === "owner";
  return (
    <Sheet
      stage="Gather"
      title="Frame"
      lead={`${frame.crs_title}, cells of ${size(frame.cell_size)} m.`}
      foot={
        mayChange && (
          <>
            {keep.error && (
              <p className="said">
                <span className="err" role="alert">
                  {keep.error.message}
                </span>
              </p>
            )}
            <div className="go">
              <span className="mut">{built.length > 0 && `${built.length} made on it`}</span>
              <Button
                kind="primary"
                disabled={!changed || keep.isPending || FIELDS.some(([key]) => parsed[key] === null)}
                onClick={() => keep.mutate()}
              >
                Change the frame
              </Button>
            </div>
          </>
        )
      }
    >
      <Section title="What the data would propose">
        {none && <p className="mut">{none.message}</p>}
        {proposal && (
          <>
            <ul className="reasons">
              {proposal.reasons.map((reason) => (
                <li key={reason}>{reason}</li>
              ))}
            </ul>
            <div className="acts">
              <span className="n">
                {num(proposal.cols)} × {num(proposal.rows)}
              </span>{" "}
              cells of <span className="n">{size(proposal.cell_size)}</span> m
              {mayChange && <Button onClick={() => fill(proposal)}>Fill in</Button>}
            </div>
          </>
        )}
      </Section>
      <Section title="The frame">
        <CrsChoice value={crs} onChange={setCrs} />
        <AreaOfUse use={use} fix={{ crs, area, cellSize: parsed.cell_size, onProposal: fill }} />
        {FIELDS.map(([key, title]) => (
          <div className="row" key={key}>
            <label htmlFor={`frame-${key}`}>{title}</label>
            <span className={`field ${parsed[key] === null ? "bad" : ""}`}>
              <input
                id={`frame-${key}`}
                inputMode="decimal"
                readOnly={!mayChange}
                value={values[key] ?? ""}
                onChange={(event) => setValues({ ...values, [key]: event.target.value })}
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
              readOnly={!mayChange}
              value={datum}
              placeholder="vertical datum, if known"
              onChange={(event) => setDatum(event.target.value)}
            />
          </span>
        </div>
      </Section>
      <p className="remark">
        {built.length
          ? "Surfaces were made on this frame, so it stays: what they are compared on would change under them. Delete them first, or begin a new project."
          : all.length
            ? "Nothing was made on it yet. Files stay as they came; the map, differences and everything made later follow the new frame."
            : "Nothing is held yet, so changing it affects nothing."}
      </p>
    </Sheet>
  );
}
