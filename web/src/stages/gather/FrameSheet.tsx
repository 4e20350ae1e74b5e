import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { call, type Project, type Proposal } from "../../api/client";
import { KEYS } from "../../api/keys";
import { client } from "../../api/queries";
import { useHeld, useProject } from "../../desk/context";
import { num, size } from "../../desk/format";
import { Button } from "../../ui/Button";
import { Section, Sheet } from "../../ui/Sheet";
import { FrameFields, filled, parsedSides, SIDES, type Typed } from "./FrameFields";

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
  const [typed, setTyped] = useState<Typed>({
    crs: grid.crs,
    sides: Object.fromEntries(SIDES.map(([key]) => [key, String(now[key])])),
    heights: frame.unit,
    datum: frame.vertical_datum,
  });
  const { data: proposal, error: none } = useQuery({
    queryKey: KEYS.proposal(project.id, all.length),
    queryFn: () => call<Proposal>("GET", `/projects/${project.id}/frame/proposal`),
    retry: false,
  });
  const parsed = parsedSides(typed);
  const changed =
    typed.crs !== grid.crs ||
    typed.heights !== frame.unit ||
    typed.datum !== frame.vertical_datum ||
    SIDES.some(([key]) => parsed[key] !== now[key]);
  const built = all.filter((one) => one.recipe);
  const keep = useMutation({
    mutationFn: () =>
      call<Project>("PUT", `/projects/${project.id}/frame`, {
        crs: typed.crs,
        ...parsed,
        unit: typed.heights,
        vertical_datum: typed.datum,
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
                disabled={!changed || keep.isPending || SIDES.some(([key]) => parsed[key] === null)}
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
              {mayChange && <Button onClick={() => setTyped(filled(proposal, typed))}>Fill in</Button>}
            </div>
          </>
        )}
      </Section>
      <Section title="The frame">
        <FrameFields typed={typed} onChange={mayChange ? setTyped : () => undefined} />
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
