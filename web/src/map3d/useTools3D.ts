import { useEffect, useRef } from "react";
import type { Outlined } from "../desk/overlays";
import { toolOf, useDesk } from "../desk/store";
import { usePin } from "../desk/usePin";
import { PATCH } from "../map/marks";
import type { Line, Place } from "../map/shapes";
import type { Space } from "../map/space";
import type { Tool } from "../tools/tool";
import type { Scene } from "./scene";

type Pixel = [number, number];

const STILL = 4; // pixels that a press may move and is a click all the same
const CLOSES = 6; // pixels from the first place, or the last, at which a click ends a drawing
const REACH = 9; // pixels from a vertex or an edge that is taken hold of
const APART = 3; // pixels between two places of what is drawn by hand
const PARTS = 24; // pieces that an edge is laid on the ground in
const PAUSE = 60; // milliseconds between two readings while the pointer moves

const between = ([ax, ay]: Pixel, [bx, by]: Pixel): number => Math.hypot(ax - bx, ay - by);

/** How far a pixel is from a piece of a line. */
export function fromEdge([x, y]: Pixel, [ax, ay]: Pixel, [bx, by]: Pixel): number {
  const [dx, dy] = [bx - ax, by - ay];
  const along = Math.min(Math.max(((x - ax) * dx + (y - ay) * dy) / (dx * dx + dy * dy || 1), 0), 1);
  return Math.hypot(ax + along * dx - x, ay + along * dy - y);
}

/** The corners of a rectangle between two opposite ones. */
const boxOf = ([ax, ay]: Place, [bx, by]: Place): Line => [
  [ax, ay],
  [bx, ay],
  [bx, by],
  [ax, by],
];

/** What is being drawn or dragged. */
interface Hand {
  places: Line;
  /** Where the pointer is on the ground. */
  at: Place | null;
  /** Where a press began that draws until it is let go, or drags a vertex. */
  pressed: Pixel | null;
  vertex: number | null;
}
const EMPTY_HAND = (): Hand => ({ places: [], at: null, pressed: null, vertex: null });

const isClicked = (tool: Tool) => tool.kind === "area" || tool.kind === "line";
const isDragged = (tool: Tool) => tool.kind === "box" || tool.kind === "freehand" || tool.kind === "brush";

/**
 * The pointer's tools on ground in three dimensions, and outlines over it: `board` lies over the scene and is painted anew
 * whenever that is drawn.
 */
export function useTools3D(scene: Scene | null, board: HTMLCanvasElement | null, space: Space): void {
  const tool = useDesk(toolOf);
  const overlays = useDesk((desk) => desk.overlays);
  const pin = usePin();
  const hand = useRef(EMPTY_HAND());
  const paint = useRef<() => void>(() => undefined);

  // -- painting -------------------------------------------------------------------------------------------------
  useEffect(() => {
    if (!scene || !board) return;
    const context = board.getContext("2d");
    if (!context) return;
    const pixels = (line: Line): Pixel[] => {
      const found: Pixel[] = [];
      line.forEach((place, i) => {
        const next = line[i + 1];
        for (let part = 0; part < (next ? PARTS : 1); part++) {
          const share = part / PARTS;
          const [x, y] = space.toPane(
            next ? [place[0] + share * (next[0] - place[0]), place[1] + share * (next[1] - place[1])] : place,
          );
          const seen = scene.pixelOf(x, y);
          if (seen) found.push(seen);
        }
      });
      return found;
    };
    const stroke = (line: Line, look: Outlined["look"]) => {
      const seen = pixels(line);
      const { colour, width, dash } = PATCH[look];
      for (const [style, wide] of [
        ["rgba(252,251,247,0.85)", width + 2],
        [colour, width],
      ] as const) {
        context.beginPath();
        for (const [x, y] of seen) context.lineTo(x, y);
        context.strokeStyle = style;
        context.lineWidth = wide;
        context.setLineDash(dash ?? []);
        context.stroke();
      }
      return seen;
    };
    const closed = (line: Line): Line => [...line, ...line.slice(0, 1)];
    const handles = (places: Line) => {
      context.setLineDash([]);
      for (const place of places) {
        const [x, y] = space.toPane(place);
        const seen = scene.pixelOf(x, y);
        if (!seen) continue;
        context.fillStyle = "#FCFBF7";
        context.strokeStyle = "#1B6470";
        context.lineWidth = 2;
        context.fillRect(seen[0] - 4, seen[1] - 4, 8, 8);
        context.strokeRect(seen[0] - 4, seen[1] - 4, 8, 8);
      }
    };
    paint.current = () => {
      const ratio = Math.min(window.devicePixelRatio || 1, 2);
      const [wide, high] = [board.clientWidth, board.clientHeight];
      if (board.width !== wide * ratio || board.height !== high * ratio) {
        board.width = wide * ratio;
        board.height = high * ratio;
      }
      context.setTransform(ratio, 0, 0, ratio, 0, 0);
      context.clearRect(0, 0, wide, high);
      const { places, at, pressed, vertex } = hand.current;
      for (const overlay of overlays) {
        if (overlay.kind === "area") stroke(closed(overlay.shown), "chosen");
        if (overlay.kind !== "patches") continue;
        for (const { look, title, places: drawn, width } of overlay.shown.outlines) {
          const [first] = stroke(width === null ? closed(drawn) : drawn, look);
          if (!first || look === "chosen") continue;
          context.font = '500 11.5px "Instrument Sans Variable"';
          context.setLineDash([]);
          context.lineWidth = 3;
          context.strokeStyle = "rgba(252,251,247,0.9)";
          context.fillStyle = "#1F2A30";
          context.strokeText(title, first[0] + 6, first[1] - 6);
          context.fillText(title, first[0] + 6, first[1] - 6);
        }
      }
      if (tool.kind === "vertices") {
        const shown = vertex === null ? tool.places : places;
        stroke(tool.closed ? closed(shown) : shown, "chosen");
        handles(shown);
      } else if (places.length || (pressed && at)) {
        if (tool.kind === "box" && places[0] && at) stroke(closed(boxOf(places[0], at)), "chosen");
        else stroke(isClicked(tool) && at ? [...places, at] : places, "chosen");
        if (isClicked(tool)) handles(places);
      }
    };
    scene.onPainted = () => paint.current();
    paint.current();
    return () => {
      scene.onPainted = () => undefined;
      context.clearRect(0, 0, board.width, board.height);
    };
  }, [scene, board, space, overlays, tool]);

  // -- the pointer ----------------------------------------------------------------------------------------------
  useEffect(() => {
    const canvas = scene?.canvas;
    if (!scene || !canvas) return;
    hand.current = EMPTY_HAND();
    let began: Pixel | null = null;
    let reading = 0;
    const pixel = (event: PointerEvent | MouseEvent): Pixel => {
      const box = canvas.getBoundingClientRect();
      return [event.clientX - box.left, event.clientY - box.top];
    };
    const placeAt = (at: Pixel): Place | null => {
      const found = scene.placeAt(...at);
      return found && (space.toPlace(found) as Place);
    };
    const seenAt = (place: Place): Pixel | null => {
      const [x, y] = space.toPane(place);
      return scene.pixelOf(x, y);
    };
    const done = (places: Line) => {
      const least = tool.kind === "line" || tool.kind === "brush" ? 2 : 3;
      hand.current = EMPTY_HAND();
      if ("done" in tool && places.length >= least) tool.done(places);
      if ("owner" in tool && tool.kind !== "brush") useDesk.getState().drop(tool.owner);
    };
    /** Takes hold of a vertex, or of an edge as a new one. */
    const hold = (at: Pixel, places: Line, closed: boolean): boolean => {
      const seen = places.map(seenAt);
      const vertex = seen.findIndex((one) => one !== null && between(one, at) <= REACH);
      if (vertex >= 0) {
        hand.current = { places: [...places], at: null, pressed: at, vertex };
        return true;
      }
      const edges = closed ? places.length : places.length - 1;
      for (let i = 0; i < edges; i++) {
        const [from, to] = [seen[i], seen[(i + 1) % seen.length]];
        if (!from || !to || fromEdge(at, from, to) > REACH) continue;
        const place = placeAt(at);
        if (!place) return false;
        const more = [...places.slice(0, i + 1), place, ...places.slice(i + 1)];
        hand.current = { places: more, at: null, pressed: at, vertex: i + 1 };
        return true;
      }
      return false;
    };
    const down = (event: PointerEvent) => {
      if (event.button) return;
      const at = pixel(event);
      began = at;
      const place = placeAt(at);
      const holds =
        tool.kind === "vertices"
          ? !event.altKey && hold(at, tool.places, tool.closed)
          : isDragged(tool) && place !== null;
      if (!holds) return;
      if (isDragged(tool) && place) hand.current = { places: [place], at: place, pressed: at, vertex: null };
      scene.isHeld = true;
      canvas.setPointerCapture(event.pointerId);
    };
    const move = (event: PointerEvent) => {
      const at = pixel(event);
      const { pressed, vertex, places } = hand.current;
      if (!pressed && !(isClicked(tool) && places.length)) {
        if (event.buttons) return;
        window.clearTimeout(reading);
        reading = window.setTimeout(() => {
          const place = placeAt(at);
          if (place) useDesk.getState().set({ pointer: place, overMap: true });
        }, PAUSE);
        return;
      }
      const place = placeAt(at);
      if (!place) return;
      if (vertex !== null)
        hand.current = { ...hand.current, places: places.map((one, i) => (i === vertex ? place : one)) };
      else if (tool.kind === "freehand" || tool.kind === "brush") {
        const last = places.at(-1);
        const seen = last && seenAt(last);
        if (seen && between(seen, at) < APART) return;
        hand.current = { ...hand.current, places: [...places, place] };
      } else hand.current = { ...hand.current, at: place };
      paint.current();
    };
    const up = (event: PointerEvent) => {
      scene.isHeld = false;
      const at = pixel(event);
      const still = began !== null && between(began, at) <= STILL;
      began = null;
      const { pressed, vertex, places, at: reached } = hand.current;
      if (pressed) {
        if (vertex !== null) {
          hand.current = EMPTY_HAND();
          if (tool.kind === "vertices" && !(still && places.length === tool.places.length)) tool.done(places);
        } else if (tool.kind === "box") done(places[0] && reached ? boxOf(places[0], reached) : []);
        else done(places);
        return paint.current();
      }
      const place = still ? placeAt(at) : null;
      if (!place) return;
      const { set } = useDesk.getState();
      if (tool.kind === "pick") tool.press({ x: place[0], y: place[1], resolution: scene.resolutionAt(...at) });
      else if (tool.kind === "vertices" && event.altKey) {
        const without = tool.places.filter((one) => {
          const seen = seenAt(one);
          return !seen || between(seen, at) > REACH;
        });
        if (without.length < tool.places.length && without.length >= (tool.closed ? 3 : 2)) tool.done(without);
      } else if (isClicked(tool)) {
        const ends = [places[0], places.at(-1)].some((one) => {
          const seen = places.length > 1 && one && seenAt(one);
          return seen && between(seen, at) <= CLOSES;
        });
        if (ends) return done(places);
        hand.current = { ...hand.current, places: [...places, place], at: place };
        paint.current();
      } else if (tool.kind === "read") {
        set({ pointer: place });
        pin();
      }
    };
    const leave = () => {
      window.clearTimeout(reading);
      useDesk.getState().set({ overMap: false });
    };
    canvas.addEventListener("pointerdown", down, { capture: true });
    canvas.addEventListener("pointermove", move);
    canvas.addEventListener("pointerup", up);
    canvas.addEventListener("pointerleave", leave);
    return () => {
      window.clearTimeout(reading);
      scene.isHeld = false;
      canvas.removeEventListener("pointerdown", down, { capture: true });
      canvas.removeEventListener("pointermove", move);
      canvas.removeEventListener("pointerup", up);
      canvas.removeEventListener("pointerleave", leave);
    };
  }, [scene, space, tool, pin]);
}
