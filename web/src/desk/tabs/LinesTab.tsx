import { Checkbox } from "@mui/material";
import { useState } from "react";
import { call, type Holding } from "../../api/client";
import { client } from "../../api/queries";
import { useHeld, useProject } from "../context";
import { num } from "../format";
import { useDesk } from "../store";

function Row({ holding }: { holding: Holding }) {
  const project = useProject();
  const hidden = useDesk((desk) => desk.hidden);
  const set = useDesk((desk) => desk.set);
  const [error, setError] = useState("");
  const judging = project.checkpoints_id === holding.id;
  const remove = async () => {
    try {
      await call("DELETE", `/projects/${project.id}/holdings/${holding.id}`);
    } catch (failure) {
      setError((failure as Error).message);
    }
    client.invalidateQueries({ queryKey: ["holdings", project.id] });
    client.invalidateQueries({ queryKey: ["projects"] });
  };
  return (
    <div className="row">
      <Checkbox
        size="small"
        sx={{ padding: "2px" }}
        checked={!hidden[holding.id]}
        slotProps={{ input: { "aria-label": `Show ${holding.name}` } }}
        onChange={() => set({ hidden: { ...hidden, [holding.id]: !hidden[holding.id] } })}
      />
      <b style={{ fontWeight: 600, minWidth: 180 }}>{holding.name}</b>
      <span className="mut" style={{ minWidth: 260 }}>
        {holding.points ? (
          <>
            <span className="n">{num(holding.points.count)}</span> points, heights in {holding.points.unit}
            {judging && ", judging the surfaces"}
          </>
        ) : (
          "coast, water, rivers and place names"
        )}
      </span>
      <a className="lnk" href={`/api/projects/${project.id}/holdings/${holding.id}/original`}>
        Download the file
      </a>
      {project.role !== "viewer" && (
        <button type="button" className="lnk danger" onClick={remove}>
          Delete
        </button>
      )}
      {error && <span role="alert">{error}</span>}
    </div>
  );
}

/** Points and lines: what is shown on the map. */
export function LinesTab() {
  const { points, features } = useHeld();
  const all = [...points, ...features];
  if (!all.length) return <p className="empties">No points or lines yet. Add a CSV of survey points in Gather.</p>;
  return (
    <div className="lines">
      {all.map((holding) => (
        <Row key={holding.id} holding={holding} />
      ))}
    </div>
  );
}
