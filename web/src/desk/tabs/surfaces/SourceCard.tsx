import type { Quantity } from "../../../api/client";
import { Button } from "../../../ui/Button";
import { useProject } from "../../context";
import { num, percent, shortUnit, size } from "../../format";
import { accuracyOf, type Source } from "../../products";
import { useDesk } from "../../store";
import { useDressOf } from "./SurfaceCard";
import styles from "./surfaces.module.css";

interface Props {
  source: Source;
  open: boolean;
  onOpen: () => void;
}

/** The tiles of one product as one card, which opens. */
export function SourceCard({ source, open, onOpen }: Props) {
  const project = useProject();
  const { holdings, name } = source;
  const first = holdings[0];
  const dress = useDressOf(first?.surface?.quantity as Quantity | undefined);
  const sheet = useDesk((desk) => desk.sheet);
  const go = useDesk((desk) => desk.open);
  if (!first?.surface) return null;
  const [empty, cells] = holdings.reduce(
    ([one, all], { surface }) => [one + (surface?.statistics.empty ?? 0), all + (surface?.statistics.cells ?? 0)],
    [0, 0],
  );
  const found = accuracyOf(source);
  return (
    <article className={styles.card} aria-label={`${name}, ${num(holdings.length)} tiles`}>
      <div className={styles.tiles}>
        <img
          src={`/api/projects/${project.id}/holdings/${first.id}/picture?key=${first.key}&dress=${dress}`}
          loading="lazy"
          alt={`Relief of ${first.name}`}
          width="106"
          height="108"
        />
      </div>
      <dl>
        <dt title={name}>{name}</dt>
        <dd>
          <span className="n">{num(holdings.length)}</span> tiles
        </dd>
        <dd className={styles.lowest}>
          <span className="n">{size(first.surface.cell_size)}</span> m
        </dd>
        <dd>
          <span className="n">{percent(empty / Math.max(cells, 1))}</span> empty
        </dd>
        {found && (
          <dd title="Of all tiles that were judged">
            rms <span className="n">{num(found.rmse, 2)}</span> {shortUnit(project.frame.unit)}
          </dd>
        )}
        <dd className={styles.acts}>
          <Button kind="link" aria-expanded={open} onClick={onOpen}>
            {open ? "Close" : "Show tiles"}
          </Button>
          <Button
            kind="link"
            onClick={() => {
              sheet("mosaic", { inputs: { surfaces: holdings.map(({ id }) => id) } });
              go("Join", "mosaic");
            }}
          >
            Join
          </Button>
        </dd>
      </dl>
    </article>
  );
}
