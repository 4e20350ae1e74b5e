import { useMutation } from "@tanstack/react-query";
import { type Accepted, call, type Holding } from "../../api/client";
import { KEYS } from "../../api/keys";
import { client } from "../../api/queries";
import { useProject } from "../../desk/context";
import { num, percent, size } from "../../desk/format";
import { useDesk } from "../../desk/store";
import { whatIsHeld } from "../../desk/tabs/LinesTab";
import { Button } from "../../ui/Button";
import { Findings } from "../Findings";
import styles from "./arrival.module.css";
import { HolesList } from "./HolesList";

function Fact({ name, children, aside }: { name: string; children: React.ReactNode; aside?: React.ReactNode }) {
  return (
    <div className={styles.fact}>
      <dt>{name}</dt>
      <dd>{children}</dd>
      {aside && <dd className={styles.aside}>{aside}</dd>}
    </div>
  );
}

function SurfaceFacts({ holding }: { holding: Holding }) {
  const found = holding.surface;
  if (!found) return null;
  const file = holding.file as { bands: number; cell_type: string; bytes: number; nodata: string | null } | null;
  return (
    <>
      <Fact name="Size" aside={file && <span className="n">{num(file.bytes / 1e6, 1)} MB</span>}>
        <span className="n">
          {num(found.cols)} × {num(found.rows)}
        </span>{" "}
        cells
      </Fact>
      <Fact name="Cell" aside={<span className="n">{found.crs.slice(0, 22)}</span>}>
        <span className="n">{size(found.cell_size)}</span> m
      </Fact>
      <Fact name="Heights" aside={<>true, of all cells</>}>
        <span className="n">{num(found.statistics.lowest, 2)}</span> to{" "}
        <span className="n">{num(found.statistics.highest, 2)}</span> {found.unit}
      </Fact>
      {found.vertical_datum && <Fact name="Zero">{found.vertical_datum}</Fact>}
      <Fact
        name="Empty"
        aside={
          file && (
            <span className="n">{file.nodata === null ? file.cell_type : `${file.cell_type}, ${file.nodata}`}</span>
          )
        }
      >
        <span className="n">{percent(found.statistics.empty / found.statistics.cells)}</span>
      </Fact>
    </>
  );
}

function CloudFacts({ holding }: { holding: Holding }) {
  const found = holding.cloud;
  if (!found) return null;
  return (
    <>
      <Fact name="Points" aside={<>LAS {found.version}</>}>
        <span className="n">{num(found.count)}</span>
      </Fact>
      <Fact name="Spacing" aside={<span className="n">{found.crs.slice(0, 22)}</span>}>
        <span className="n">{num(found.spacing, 2)}</span> m, <span className="n">{num(found.density, 1)}</span> a m²
      </Fact>
      <Fact name="Heights">
        <span className="n">{num(found.lowest, 2)}</span> to <span className="n">{num(found.highest, 2)}</span> m
      </Fact>
      <Fact name="Classes">
        {Object.entries(found.classes).map(([code, count], i) => (
          <span key={code}>
            {i > 0 && ", "}
            {found.class_names[code]} <span className="n">{num((100 * count) / found.count, 1)} %</span>
          </span>
        ))}
      </Fact>
    </>
  );
}

function ImageFacts({ holding }: { holding: Holding }) {
  const found = holding.image;
  if (!found) return null;
  return (
    <>
      <Fact name="Size" aside={<span className="n">{found.cell_type}</span>}>
        <span className="n">
          {num(found.cols)} × {num(found.rows)}
        </span>{" "}
        cells
      </Fact>
      <Fact name="Cell">
        <span className="n">{num(found.ground_size, 2)}</span> m on the ground
      </Fact>
      <Fact name="Grey" aside={found.bits ? <>{found.bits} bits</> : undefined}>
        <span className="n">{num(found.lowest)}</span> to <span className="n">{num(found.highest)}</span>
      </Fact>
      <Fact name="Empty">
        <span className="n">{percent(found.empty)}</span>
      </Fact>
      <Fact name="Model" aside={<>rational polynomials</>}>
        <span className="n">{num(found.heights[0])}</span> to <span className="n">{num(found.heights[1])}</span> m
      </Fact>
    </>
  );
}

function PictureFacts({ holding }: { holding: Holding }) {
  const found = holding.picture;
  if (!found) return null;
  return (
    <>
      <Fact name="Size" aside={<span className="n">{found.cell_type}</span>}>
        <span className="n">
          {num(found.cols)} × {num(found.rows)}
        </span>{" "}
        cells
      </Fact>
      <Fact name="Cell" aside={<span className="n">{found.crs.slice(0, 22)}</span>}>
        <span className="n">{num(found.cell, 2)}</span> m
      </Fact>
      <Fact name="Bands">
        <span className="n">{found.bands}</span>
      </Fact>
    </>
  );
}

/** What an arrival is, with its findings; a mend takes the same file in once more with something else declared. */
export function Arrival({ holding, note }: { holding: Holding; note?: string }) {
  const project = useProject();
  const put = useDesk((desk) => desk.put);
  const set = useDesk((desk) => desk.set);
  const hidden = useDesk((desk) => desk.hidden);
  const mend = useMutation({
    mutationFn: (declared: Record<string, unknown>) =>
      call<Accepted>("POST", `/projects/${project.id}/holdings/${holding.id}/declare`, { declared }),
    onSettled: () => {
      client.invalidateQueries({ queryKey: KEYS.jobs(project.id) });
      client.invalidateQueries({ queryKey: KEYS.holdings(project.id) });
    },
  });
  const mends = holding.uploaded && project.role !== "viewer";
  return (
    <section className="sec arrival" aria-label={holding.name}>
      <h2>
        {holding.name}
        <small>
          {note ??
            (holding.findings.length === 1
              ? "1 finding"
              : holding.findings.length
                ? `${holding.findings.length} findings`
                : "no findings")}
        </small>
      </h2>
      <dl>
        <SurfaceFacts holding={holding} />
        <CloudFacts holding={holding} />
        <ImageFacts holding={holding} />
        <PictureFacts holding={holding} />
        {(holding.points || holding.features) && (
          <>
            <Fact name="Holds">{whatIsHeld(holding, project.checkpoints_id === holding.id)}</Fact>
            <Fact name="CRS">
              <span className="n">{(holding.points ?? holding.features)?.crs.slice(0, 30)}</span>
            </Fact>
          </>
        )}
        {Object.keys(holding.features?.attributes ?? {}).length > 0 && (
          <Fact name="Columns">{Object.keys(holding.features?.attributes ?? {}).join(", ")}</Fact>
        )}
      </dl>
      {holding.holes && holding.holes.count > 0 && <HolesList holding={holding} />}
      {(holding.image || holding.picture) && holding.bounds && (
        <div className="acts">
          <Button
            onClick={() => {
              const [west, south, east, north] = holding.bounds ?? [0, 0, 0, 0];
              set({
                hidden: { ...hidden, [holding.id]: false },
                goTo: {
                  x: (west + east) / 2,
                  y: (south + north) / 2,
                  resolution: Math.max((east - west) / 600, (north - south) / 420, 0.2),
                },
              });
            }}
          >
            {holding.picture ? "Show on the map" : "Show its ground"}
          </Button>
        </div>
      )}
      {holding.surface && (
        <div className="acts">
          <Button onClick={() => put("a", holding.key)}>Put in A</Button>
          <Button onClick={() => put("b", holding.key)}>Put in B</Button>
        </div>
      )}
      {holding.fixed_by && (
        <p className="mut">
          Fixed as <b>{holding.fixed_by}</b>, which stands beside this one.
        </p>
      )}
      {holding.findings.length > 0 && !holding.fixed_by && (
        <Findings findings={holding.findings} onFix={mends ? (change) => mend.mutate(change) : undefined} bare />
      )}
      {mend.isSuccess && !holding.fixed_by && (
        <p className="mut" role="status">
          {mend.data.job ? "A mended holding is being made beside this one." : "The mended holding is there already."}
        </p>
      )}
      {mend.error && (
        <p className="fail" role="alert">
          {mend.error.message}
        </p>
      )}
    </section>
  );
}
