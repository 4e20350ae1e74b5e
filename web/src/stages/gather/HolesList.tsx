import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { call, type Holding } from "../../api/client";
import { useProject } from "../../desk/context";
import { many, num } from "../../desk/format";
import { useDesk } from "../../desk/store";
import { type Collection, linesOf } from "../../map/shapes";

const LISTED = 6;

const area = (metres: number) => (metres < 1e6 ? `${num(metres)} m²` : `${num(metres / 1e6, 2)} km²`);

/** The holes of a surface: their shapes on the map, and the largest to go to one by one. */
export function HolesList({ holding }: { holding: Holding }) {
  const project = useProject();
  const rims = useDesk((desk) => desk.rims);
  const set = useDesk((desk) => desk.set);
  const [open, setOpen] = useState(false);
  const { data, error } = useQuery({
    queryKey: ["holes", project.id, holding.id, project.frame.grid.crs],
    queryFn: () => call<Collection>("GET", `/projects/${project.id}/holdings/${holding.id}/holes`),
    enabled: open,
    staleTime: Infinity,
  });
  const every = (data?.features ?? []).flatMap((one) => linesOf(one.geometry)) as [number, number][][];
  const shown = open && rims.length > 0;
  return (
    <div className="holes">
      <p>
        <span className="n">{num(holding.holes?.count ?? 0)}</span> {holding.holes?.count === 1 ? "hole" : "holes"} of{" "}
        <span className="n">{many(holding.holes?.cells ?? 0)}</span> cells{" "}
        <button
          type="button"
          className="lnk"
          aria-expanded={open}
          onClick={() => {
            setOpen(!open);
            if (open) set({ rims: [] });
          }}
        >
          {open ? "Close" : "Look at them"}
        </button>
      </p>
      {error && (
        <p className="fail" role="alert">
          {error.message}
        </p>
      )}
      {open && data && (
        <>
          <ul aria-label={`Holes of ${holding.name}`}>
            {data.features.slice(0, LISTED).map((one, i) => (
              <li key={one.id}>
                <span className="n">{i + 1}</span> <span className="n">{area(Number(one.properties.area))}</span>
                <span className="mut">
                  <span className="n">{num(Number(one.properties.cells))}</span> cells
                </span>
                <button
                  type="button"
                  className="lnk"
                  aria-label={`Go to hole ${i + 1}`}
                  onClick={() => {
                    const ring = linesOf(one.geometry)[0] ?? [];
                    const xs = ring.map(([x = 0]) => x);
                    const ys = ring.map(([, y = 0]) => y);
                    const [west, east, south, north] = [
                      Math.min(...xs),
                      Math.max(...xs),
                      Math.min(...ys),
                      Math.max(...ys),
                    ];
                    set({
                      rims: every,
                      goTo: {
                        x: (west + east) / 2,
                        y: (south + north) / 2,
                        resolution: Math.max((east - west) / 240, (north - south) / 200, 0.1),
                      },
                    });
                  }}
                >
                  Go there
                </button>
              </li>
            ))}
          </ul>
          <p className="mut">
            {(holding.holes?.count ?? 0) > LISTED && `The ${LISTED} largest are listed. `}
            <button type="button" className="lnk" onClick={() => set({ rims: shown ? [] : every })}>
              {shown ? "Hide the shapes" : `Show ${every.length === 1 ? "its shape" : "the shapes"}`}
            </button>
          </p>
        </>
      )}
    </div>
  );
}
