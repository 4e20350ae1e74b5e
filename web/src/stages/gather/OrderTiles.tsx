import { useMutation, useQueries, useQuery } from "@tanstack/react-query";
import { useEffect, useMemo, useState } from "react";
import { type Cover, call, type Order, type Place, type Product } from "../../api/client";
import { KEYS } from "../../api/keys";
import { client } from "../../api/queries";
import { useHeld, useProject } from "../../desk/context";
import { many, num } from "../../desk/format";
import { type Footprint, useOverlay } from "../../desk/overlays";
import { useDesk } from "../../desk/store";
import type { Ring } from "../../map/shapes";
import { useTool } from "../../tools/useTool";
import { Button } from "../../ui/Button";
import { Choice } from "../../ui/Choice";
import { Entry } from "../../ui/Entry";
import { NumberField } from "../../ui/NumberField";
import { Section, Sheet } from "../../ui/Sheet";
import { Toggle } from "../../ui/Toggle";
import { Arrival } from "./Arrival";
import { areaOf, boxOf, holds, ringOf } from "./area";
import { Coming } from "./Coming";
import { OPEN, WORDS } from "./orders";
import styles from "./orderTiles.module.css";
import { ProductRow } from "./ProductRow";
import { useWhere } from "./useWhere";

const NOWHERE: Place[] = [];
function standingLook(standing: string): Footprint["look"] {
  if (standing === "received") return "received";
  if (standing === "failed" || standing === "cancelled") return "failed";
  return standing ? "arriving" : "open";
}

const ABOVE_NOTHING = { words: "A cell is larger than 0.", holds: (size: number) => size > 0 };

/** Order tiles or a cut-out of an area from the providers, and watch them come in. */
export function OrderTiles() {
  const project = useProject();
  const frame = project.frame.grid;
  const { all } = useHeld();
  const [area, setArea] = useState<Ring | null>(null);
  const set = useDesk((desk) => desk.set);
  const [depot, setDepot] = useState<string | null>(null);
  const [cutting, setCutting] = useState(false);
  const [cell, setCell] = useState<Record<string, number>>({});
  const [left, setLeft] = useState<Record<string, boolean>>({});
  const [quick, setQuick] = useState(false);

  const whole = useMemo(() => ringOf(frame), [frame]);
  const ring = area ?? whole;
  const bounds = useMemo(() => boxOf(ring).map((value) => Math.round(value)), [ring]);

  const { data: products = [], error: productError } = useQuery({
    queryKey: KEYS.depots(project.id),
    queryFn: () => call<Product[]>("GET", `/projects/${project.id}/depots`),
    refetchInterval: (query) => (query.state.data?.some((one) => one.down_for != null) ? 5_000 : 60_000),
  });
  const { data: places = NOWHERE } = useQuery({
    queryKey: KEYS.places(project.id),
    queryFn: () => call<Place[]>("GET", `/projects/${project.id}/places`),
    staleTime: 600_000,
  });
  const { data: orders = [] } = useQuery({
    queryKey: KEYS.orders(project.id),
    queryFn: () => call<Order[]>("GET", `/projects/${project.id}/orders`),
    refetchInterval: (query) =>
      query.state.data?.some((order) => order.parts.some((part) => OPEN.includes(part.standing))) ? 700 : 20_000,
  });
  const usable = products.filter((one) => one.product);
  const chosen = usable.find((one) => one.depot === depot) ?? usable[0];
  const parts = orders.flatMap((order) => order.parts);
  const arrived = parts.filter((part) => part.standing === "received").length;
  const covers = useQueries({
    queries: usable.map((one) => ({
      queryKey: KEYS.cover(project.id, one.depot, bounds, one.down_for != null),
      queryFn: () => call<Cover>("POST", `/projects/${project.id}/depots/${one.depot}/cover`, { bounds }),
      enabled: one.down_for == null,
      staleTime: 60_000,
    })),
    combine: (results) => results.map((result) => result.data),
  });
  const where = useWhere(
    places,
    covers.flatMap((one) => one?.tiles ?? []),
    setArea,
  );
  const draw = useTool("area", setArea);
  useOverlay("area", area);
  const pin = useTool("pick", ({ x, y }) => {
    where.type(`E ${Math.round(x)} N ${Math.round(y)}`);
    pin.put(false);
  });
  const coverOf = (name: string | undefined) => covers[usable.findIndex((one) => one.depot === name)];
  const cover = coverOf(chosen?.depot);

  // biome-ignore lint/correctness/useExhaustiveDependencies: what has arrived changes what there is
  useEffect(() => {
    client.invalidateQueries({ queryKey: KEYS.holdings(project.id) });
    client.invalidateQueries({ queryKey: KEYS.cover(project.id) });
  }, [arrived, parts.length, project.id]);

  const tiles = useMemo(
    () => (cover?.tiles ?? []).filter((tile) => holds(ring, tile.ring as [number, number][])),
    [cover, ring],
  );
  const partOf = (name: string) =>
    orders
      .filter((order) => order.depot === chosen?.depot && order.kind === "tiles")
      .flatMap((order) => order.parts)
      .find((part) => part.name === name);
  const standingOf = (tile: (typeof tiles)[number]) => {
    const part = partOf(tile.name);
    return part &&
      (tile.part_id === null || part.id >= tile.part_id) &&
      !(part.standing === "received" && tile.standing !== "received" && tile.part_id !== null)
      ? part.standing
      : tile.standing;
  };
  const isFree = (standing: string) => ["", "failed", "cancelled"].includes(standing);
  const wanted =
    cutting || where.lost
      ? []
      : tiles.filter((tile) => isFree(standingOf(tile)) && !left[`${chosen?.depot}${tile.name}`]);

  // footprints on the map
  const footprints = JSON.stringify(
    cutting
      ? []
      : tiles.map((tile): Footprint => {
          const standing = standingOf(tile);
          const part = partOf(tile.name);
          const look = standingLook(standing);
          const free = isFree(standing);
          const percent = part?.size ? `${num((100 * part.received) / part.size)} %` : "";
          const word =
            standing === "arriving"
              ? `arriving ${percent}`
              : part?.note && standing === "waiting"
                ? part.note.startsWith("Damaged")
                  ? `damaged, try ${part.tries + 1} of 5`
                  : "waiting for it"
                : (WORDS[standing] ?? (standing === "received" ? "here" : standing));
          return {
            name: tile.name,
            ring: tile.ring as [number, number][],
            look: free && !left[`${chosen?.depot}${tile.name}`] && standing === "" ? "chosen" : look,
            word,
          };
        }),
  );
  const of = chosen?.depot;
  useOverlay(
    "footprints",
    useMemo(
      () => ({
        tiles: JSON.parse(footprints) as Footprint[],
        press: (name: string) => setLeft((held) => ({ ...held, [`${of}${name}`]: !held[`${of}${name}`] })),
      }),
      [footprints, of],
    ),
  );
  useEffect(() => () => set({ preview: null }), [set]);

  // the quick look stands where a preview would
  const { data: look, error: lookError } = useQuery({
    queryKey: KEYS.quick(project.id, chosen?.depot),
    queryFn: () =>
      call<{ key: string; name: string }>("POST", `/projects/${project.id}/depots/${chosen?.depot}/quick-look`),
    enabled: quick && Boolean(chosen) && chosen?.down_for == null,
    staleTime: Infinity,
    retry: false,
  });
  useEffect(() => {
    if (!quick || !look) return set({ preview: null });
    set({ preview: { key: look.key, quantity: "height", coarse: true, outline: [], title: look.name } });
  }, [quick, look, set]);

  const order = useMutation({
    mutationFn: (body: object) => call<Order>("POST", `/projects/${project.id}/orders`, body),
    onSettled: () => {
      client.invalidateQueries({ queryKey: KEYS.orders(project.id) });
      client.invalidateQueries({ queryKey: KEYS.jobs(project.id) });
      client.invalidateQueries({ queryKey: KEYS.cover(project.id) });
    },
  });
  const cutCell = (chosen && cell[chosen.depot]) ?? cover?.cell_size ?? 0;
  const cutCells = cover ? Math.round(cover.cells * (cover.cell_size / Math.max(cutCell, cover.cell_size)) ** 2) : 0;
  const bytes = wanted.reduce((sum, tile) => sum + tile.bytes, 0);
  const already = tiles.length - tiles.filter((tile) => isFree(standingOf(tile))).length;
  const mayOrder = project.role !== "viewer";
  const newest = orders
    .flatMap((one) => one.parts)
    .filter((part) => part.holding_id !== null)
    .sort((a, b) => (b.holding_id ?? 0) - (a.holding_id ?? 0))[0];
  const received = all.find((one) => one.id === newest?.holding_id);
  return (
    <Sheet
      stage="Gather"
      title="Order tiles"
      foot={
        <>
          {order.error && (
            <p className="said">
              <span className="err" role="alert">
                {order.error.message}
              </span>
            </p>
          )}
          <div className="est">
            {cutting ? (
              <>
                <span>One cut-out</span>
                <b className={cover && cutCells > cover.max_cells ? "fail" : ""}>
                  <span className="n">{many(cutCells)}</span> cells
                </b>
              </>
            ) : (
              <>
                <span>
                  {already > 0 && (
                    <>
                      <span className="n">{num(already)}</span> of <span className="n">{num(tiles.length)}</span> here
                      or coming
                    </>
                  )}
                </span>
                <b>
                  <span className="n">{num(wanted.length)}</span> {wanted.length === 1 ? "tile" : "tiles"},{" "}
                  <span className="n">{num(bytes / 1e6, 1)}</span> MB
                </b>
              </>
            )}
          </div>
          <div className="go">
            <Toggle
              label={
                quick && !look && !lookError && chosen?.down_for == null ? "Fetching the quick look…" : "Quick look"
              }
              checked={quick}
              onChange={setQuick}
            />
            <Button
              kind="primary"
              disabled={
                !mayOrder ||
                order.isPending ||
                chosen?.down_for != null ||
                (cutting ? !cover || where.lost !== null || cutCells > cover.max_cells : wanted.length === 0)
              }
              onClick={() =>
                chosen &&
                order.mutate(
                  cutting
                    ? {
                        depot: chosen.depot,
                        kind: "cut_out",
                        bounds,
                        cell_size: Math.max(cutCell, cover?.cell_size ?? 0),
                      }
                    : { depot: chosen.depot, kind: "tiles", tiles: wanted.map((tile) => tile.name) },
                )
              }
            >
              {cutting ? "Order the cut-out" : `Order ${wanted.length} ${wanted.length === 1 ? "tile" : "tiles"}`}
            </Button>
          </div>
        </>
      }
    >
      <Section title="Where">
        <div className="where">
          <Entry
            list="places"
            label="Place, tile or position"
            placeholder="Place, tile or position"
            value={where.typed}
            bad={where.lost !== null}
            onChange={where.type}
          />
          <datalist id="places">
            {places.map((one) => (
              <option key={one.name} value={one.name} />
            ))}
          </datalist>
          <button
            type="button"
            className={`btn ${draw.inHand ? "on" : ""}`}
            aria-pressed={draw.inHand}
            onClick={() => {
              where.forget();
              draw.put(!draw.inHand);
            }}
          >
            Draw
          </button>
          <Button
            aria-pressed={pin.inHand}
            title="Press a place on the map: the area around it"
            onClick={() => pin.put(!pin.inHand)}
          >
            Pin
          </Button>
          <Button
            aria-pressed={!area}
            onClick={() => {
              where.forget();
              setArea(null);
              draw.put(false);
              set({ goTo: "whole" });
            }}
          >
            Frame
          </Button>
        </div>
        {where.lost && (
          <p className="fail" role="alert">
            {where.lost}
          </p>
        )}
        <p className={`mut ${styles.wide}`}>
          <span>{area ? (where.typed ? `Around ${where.typed.trim()}` : "The area drawn") : "The whole frame"}</span>
          <span className="n">{num(areaOf(ring) / 1e6, 1)} km²</span>
        </p>
      </Section>
      <section className={`sec ${styles.products}`} aria-label="Products">
        <h2>Product</h2>
        <Choice
          label="How it comes"
          value={cutting ? "cut" : "tiles"}
          options={[
            { value: "tiles", title: "as whole tiles" },
            { value: "cut", title: "as a cut-out" },
          ]}
          onChange={(value) => setCutting(value === "cut")}
        />
        <div className={styles.phead} aria-hidden="true">
          <span>cell</span>
          <span>LE90</span>
          <span>year</span>
          <span>voids</span>
        </div>
        {productError && (
          <p className="fail" role="alert">
            {productError.message}
          </p>
        )}
        <ul>
          {products.map((one) => (
            <ProductRow
              key={one.depot}
              product={one}
              cover={coverOf(one.depot)}
              chosen={one.depot === chosen?.depot}
              cutting={cutting}
              onChoose={() => setDepot(one.depot)}
              onCut={(size) => setCell({ ...cell, [one.depot]: size })}
            />
          ))}
        </ul>
        {cutting && chosen && cover && (
          <NumberField
            key={chosen.depot}
            label="Cell size"
            unit={cover.unit === "°" ? "arc seconds" : "m"}
            value={Number((cutCell * (cover.unit === "°" ? 3600 : 1)).toFixed(1))}
            bounds={ABOVE_NOTHING}
            onChange={(typed) => {
              if (typed && typed > 0) setCell({ ...cell, [chosen.depot]: cover.unit === "°" ? typed / 3600 : typed });
            }}
          />
        )}
        {lookError && <p className="fail">{lookError.message}</p>}
      </section>
      <Coming orders={orders} mayOrder={mayOrder} />
      {received && <Arrival holding={received} />}
    </Sheet>
  );
}
