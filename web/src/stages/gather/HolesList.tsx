import { useQuery } from "@tanstack/react-query";
import { useMemo, useState } from "react";
import { call, type Holding } from "../../api/client";
import { KEYS } from "../../api/keys";
import { useProject } from "../../desk/context";
import { many, num } from "../../desk/format";
import { useOverlay } from "../../desk/overlays";
import { useDesk } from "../../desk/store";
import { type Collection, type Line, linesOf } from "../../map/shapes";
import { Button } from "../../ui/Button";

const LISTED = 6;

const area = (metres: number) => (metres < 1e6 ? `${num(metres)} m²` : `${num(metres / 1e6, 2)} km²`);

/** The holes of a surface: their shapes on the map, and the largest to go to one by one. */
export function HolesList({ holding }: { holding: Holding }) {
  const project = useProject();
  const set = useDesk((desk) => desk.set);
  const [open, setOpen] = useState(false);
  const [shown, setShown] = useState(false);
  const { data, error } = useQuery({
    queryKey: KEYS.holes(project.id, holding.id, project.frame.grid.crs),
    queryFn: () => call<Collection>("GET", `/projects/${project.id}/holdings/${holding.id}/holes`),
    enabled: open,
    staleTime: Infinity,
  });
  const every = useMemo(() => (data?.features ?? []).flatMap((one) => linesOf(one.geometry)) as Line[], [data]);
  useOverlay("rims", open && shown ? every : null);
  return (
    <div className="holes">
      <p>
        <span className="n">{num(holding.holes?.count ?? 0)}</span> {holding.holes?.count === 1 ? "hole" : "holes"} of{" "}
        <span className="n">{many(holding.holes?.cells ?? 0)}</span> cells{" "}
        <Button
          kind="link"
          aria-expanded={open}
          onClick={() => {
            setOpen(!open);
            setShown(false);
          }}
        >
          {open ? "Close" : "Look at them"}
        </Button>
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
                <Button
                  kind="link"
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
                    setShown(true);
                    set({
                      goTo: {
                        x: (west + east) / 2,
                        y: (south + north) / 2,
                        resolution: Math.max((east - west) / 240, (north - south) / 200, 0.1),
                      },
                    });
                  }}
                >
                  Go there
                </Button>
              </li>
            ))}
          </ul>
          <p className="mut">
            {(holding.holes?.count ?? 0) > LISTED && `The ${LISTED} largest are listed. `}
            <Button kind="link" onClick={() => setShown(!shown)}>
              {shown ? "Hide the shapes" : `Show ${every.length === 1 ? "its shape" : "the shapes"}`}
            </Button>
          </p>
        </>
      )}
    </div>
  );
}
