import { useState } from "react";
import { call, type Project } from "../../api/client";
import { client } from "../../api/queries";
import { num, parse } from "../../desk/format";
import { useDesk } from "../../desk/store";
import { Section, Sheet } from "../parts";

const FIELDS = [
  ["cell_size", "Cell size"],
  ["west", "West"],
  ["south", "South"],
  ["east", "East"],
  ["north", "North"],
] as const;

/** A new project with its frame, typed. */
export function NewProject({ open }: { open: (id: number) => void }) {
  const openStage = useDesk((desk) => desk.open);
  const [name, setName] = useState("");
  const [crs, setCrs] = useState("EPSG:32741");
  const [values, setValues] = useState<Record<string, string>>({ cell_size: "2" });
  const [error, setError] = useState("");
  const parsed = Object.fromEntries(FIELDS.map(([key]) => [key, parse(values[key] ?? "")])) as Record<
    string,
    number | null
  >;
  const ready = name.trim() && crs.trim() && FIELDS.every(([key]) => parsed[key] !== null);
  const cells =
    ready && parsed.cell_size
      ? (((parsed.east ?? 0) - (parsed.west ?? 0)) / parsed.cell_size) *
        (((parsed.north ?? 0) - (parsed.south ?? 0)) / parsed.cell_size)
      : null;
  const make = async () => {
    try {
      const project = await call<Project>("POST", "/projects", { name, frame: { crs, ...parsed } });
      await client.invalidateQueries({ queryKey: ["projects"] });
      openStage("Gather");
      open(project.id);
    } catch (failure) {
      setError((failure as Error).message);
    }
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
                {error}
              </span>
            </p>
          )}
          <div className="est">
            <span>Frame</span>
            <b>{cells && cells > 0 ? <span className="n">{num(cells)} cells</span> : ""}</b>
          </div>
          <div className="go">
            <span />
            <button type="button" className="primary" disabled={!ready} onClick={make}>
              Make project
            </button>
          </div>
        </>
      }
    >
      <Section title="Project">
        <div className="row">
          <label htmlFor="project-name">Name</label>
          <span className="field">
            <input id="project-name" className="text" value={name} onChange={(e) => setName(e.target.value)} />
          </span>
        </div>
      </Section>
      <Section title="Frame">
        <div className="row">
          <label htmlFor="frame-crs">CRS</label>
          <span className="field">
            <input id="frame-crs" value={crs} onChange={(e) => setCrs(e.target.value)} />
          </span>
        </div>
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
              <span className="u">CRS units</span>
            </span>
          </div>
        ))}
      </Section>
    </Sheet>
  );
}
