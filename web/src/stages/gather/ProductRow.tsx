import { useId } from "react";
import type { Cover, Product } from "../../api/client";
import { num, thousands } from "../../desk/format";
import { Button } from "../../ui/Button";
import { Radio } from "../../ui/Radio";
import styles from "./productRow.module.css";

/** Cells of a cut-out against a provider's limit. */
function Cost({ cover }: { cover: Cover }) {
  const share = Math.min(cover.cells / cover.max_cells, 2) / 2;
  const over = cover.cells > cover.max_cells;
  return (
    <span className={`${styles.cost} ${over ? "over" : ""}`}>
      <svg width="62" height="6" viewBox="0 0 62 6" aria-hidden="true">
        <rect width="62" height="6" fill="#DAD6CA" rx="1" />
        <rect width={62 * share} height="6" fill={over ? "#9A6B00" : "#1B6470"} rx="1" />
        <path d="M31 0v6" stroke="#1F2A30" />
      </svg>
      <span>
        <span className="n">{thousands(cover.cells)}</span> of <span className="n">{thousands(cover.max_cells)}</span>{" "}
        cells
      </span>
    </span>
  );
}

interface RowProps {
  product: Product;
  cover: Cover | undefined;
  chosen: boolean;
  onChoose: () => void;
  onCut: (cell: number) => void;
  cutting: boolean;
}

/** A product with what is known of it, and what of it covers the area. */
export function ProductRow({ product, cover, chosen, onChoose, onCut, cutting }: RowProps) {
  const id = useId();
  const down = product.down_for != null;
  return (
    <li className={`${chosen ? "on" : ""} ${down ? "down" : ""}`}>
      <label htmlFor={id}>
        <Radio id={id} group="product" checked={chosen} onChoose={onChoose} />
        <b>{product.title}</b>
        <span className="n">{product.resolution == null ? "–" : `${num(product.resolution)} m`}</span>
        <span className="n">{product.le90 == null ? "–" : `${num(product.le90, 1)} m`}</span>
        <span className="n">{product.year ?? "–"}</span>
        <span>{product.voids ?? "–"}</span>
      </label>
      <div className="more">
        {product.reference && (
          <span>
            {product.reference}
            {!cutting && (product.canopy ? ", trees in it" : ", no trees")}
          </span>
        )}
        {cover && !cover.reason && cutting && <Cost cover={cover} />}
        {cover && !cover.reason && !cutting && (
          <span>
            <span className="n">{num(cover.tiles.length)}</span> {cover.tiles.length === 1 ? "tile" : "tiles"} here
          </span>
        )}
      </div>
      {chosen && product.crs && (
        <div className="more">
          <span>
            <span className="n">{product.crs}</span>, zero at {product.datum}
          </span>
        </div>
      )}
      {down && (
        <div className="more again" role="status">
          {product.reason} It is asked again by itself.
        </div>
      )}
      {cover?.reason && !down && <div className="more fail">{cover.reason}</div>}
      {chosen && cutting && cover?.finest != null && cover.cells > cover.max_cells && (
        <div className="more">
          <span>
            Finest that fits: <span className="n">{cellText(cover.finest, cover)}</span>
          </span>
          <Button onClick={() => cover.finest != null && onCut(cover.finest)}>Cut at that</Button>
        </div>
      )}
    </li>
  );
}

function cellText(cell: number, cover: Cover): string {
  return cover.unit === "°" ? `${num(cell * 3600, 1)}″` : `${num(cell, cell < 10 ? 1 : 0)} m`;
}
