import type { NetworkFigures } from "../api/client";
import { num } from "../desk/format";
import { marks } from "../desk/key/range";
import styles from "./networks.module.css";
import type { Slot } from "./state";

const [WIDE, HIGH, LEFT, FOOT, TOP] = [270, 100, 30, 15, 13];
const BAR = 24;

interface Props {
  of: { slot: Slot; figures: NetworkFigures }[];
}

/** Length of streams by order, with how many there are on top of each bar. */
export function OrdersChart({ of }: Props) {
  const orders = Math.max(...of.map(({ figures }) => figures.orders?.length ?? 0), 0);
  const longest = Math.max(...of.flatMap(({ figures }) => (figures.orders ?? []).map((one) => one.length / 1000)), 0);
  if (!orders || !longest) return null;
  const y = (km: number) => HIGH - FOOT - (km / longest) * (HIGH - FOOT - TOP);
  const step = (WIDE - LEFT) / orders;
  const bar = Math.min(BAR, (step - 6) / of.length);
  return (
    <figure className={styles.chart}>
      <figcaption>
        <b>Length by order, km</b> <span className="mut">number of streams on top</span>
      </figcaption>
      <svg viewBox={`0 0 ${WIDE} ${HIGH}`} role="img" aria-label="Length of streams by order">
        {marks(0, longest, 3).map((km) => (
          <g key={km}>
            <line x1={LEFT} x2={WIDE} y1={y(km)} y2={y(km)} />
            <text x={LEFT - 5} y={y(km) + 3.5} textAnchor="end">
              {num(km, longest < 4 ? 1 : 0)}
            </text>
          </g>
        ))}
        {Array.from({ length: orders }, (_, i) => i + 1).map((order) => {
          const middle = LEFT + step * (order - 0.5);
          return (
            <g key={order}>
              {of.map(({ slot, figures }, k) => {
                const there = figures.orders?.find((one) => one.order === order);
                if (!there) return null;
                const x = middle + (k - of.length / 2) * bar;
                return (
                  <g key={slot}>
                    <rect
                      data-slot={slot}
                      x={x + 1}
                      y={y(there.length / 1000)}
                      width={bar - 2}
                      height={HIGH - FOOT - y(there.length / 1000)}
                    />
                    <text x={x + bar / 2} y={y(there.length / 1000) - 3} textAnchor="middle">
                      {num(there.count)}
                    </text>
                  </g>
                );
              })}
              <text x={middle} y={HIGH - 4} textAnchor="middle">
                order {order}
              </text>
            </g>
          );
        })}
      </svg>
    </figure>
  );
}
