import { useCallback, useEffect, useRef } from "react";
import { useHeld, useProject } from "../desk/context";
import { toolOf, useDesk } from "../desk/store";
import { useKeys } from "../desk/useKeys";
import type { Line } from "../map/shapes";
import type { Pressed } from "../tools/tool";
import { useTool } from "../tools/useTool";
import { Button } from "../ui/Button";
import { movedTo } from "./geometry";
import { type IconName, ToolIcon } from "./icons";
import styles from "./mend.module.css";
import { newPatch, type OperatorKind, usualOperator } from "./operators";
import { LENS, useMend } from "./state";
import { useMended, useMendedStack, useShape, useUsualHeight } from "./useMended";
import { freshName, placesOf } from "./useStack";

/** Operators that need a line. */
const ALONG_LINES = ["falling", "breach", "sharpen"];
const VERTICES = "mend-vertices";

/** What a drawing becomes: a patch, or a keep-out where that was asked for. */
function useDrawn() {
  const stack = useMendedStack();
  const { change } = stack;
  const usualHeight = useUsualHeight();
  return useCallback(
    (drawn: { ring: Line } | { line: Line }, stroke?: number) => {
      const { keepOut, operator, set } = useMend.getState();
      const name = freshName();
      if (keepOut)
        change([
          {
            name,
            kind: "keep_out",
            content: { name: "Keep-out", ring: null, line: null, width: 10, real: false, ...drawn },
          },
        ]);
      else {
        // of lines only strokes are mended as areas are
        const asLine = ALONG_LINES.includes(operator) ? operator : "falling";
        const asArea = ALONG_LINES.includes(operator) ? "smooth" : operator;
        const kind = ("line" in drawn && !stroke ? asLine : asArea) as OperatorKind;
        const content = newPatch(drawn, usualOperator(kind, usualHeight()));
        change([
          { name, kind: "patch", content: stroke ? { ...content, width: stroke, feather: stroke / 4 } : content },
        ]);
      }
      set({ chosen: name, keepOut: false });
    },
    [change, usualHeight],
  );
}

interface ToolButton {
  name: IconName;
  title: string;
  letter: string;
  on?: boolean;
  disabled?: boolean;
  press: () => void;
}

function Bar({ label, tools }: { label: string; tools: ToolButton[] }) {
  return (
    <div className={styles.bar} role="toolbar" aria-label={label} aria-orientation="vertical">
      {tools.map(({ name, title, letter, on, disabled, press }) => (
        <Button
          key={name}
          kind="bare"
          title={`${title} (${letter.toUpperCase()})`}
          aria-label={title}
          aria-pressed={on}
          disabled={disabled}
          onClick={press}
        >
          <ToolIcon name={name} />
          <small aria-hidden="true">{letter.toUpperCase()}</small>
        </Button>
      ))}
    </div>
  );
}

/** The tools that draw outlines and change them, at the left edge of the map. */
export function MendTools() {
  const surface = useMended();
  const { a } = useHeld();
  const stack = useMendedStack();
  const { all, change } = stack;
  const shape = useShape();
  const drawn = useDrawn();
  const chosenName = useMend((mend) => mend.chosen);
  const lens = useMend((mend) => mend.lens);
  const snaps = useMend((mend) => mend.snaps);
  const set = useMend((mend) => mend.set);
  const chosen = all.find((one) => one.name === chosenName);
  const kind = useDesk((desk) => toolOf(desk).kind);
  const flat = useDesk((desk) => desk.bench === "map");
  const canMend = useProject().role !== "viewer";
  const reshape = (content: Partial<{ ring: Line; line: Line }>) =>
    chosen && change([{ name: chosen.name, kind: chosen.kind, content: { ...chosen.content, ...content } as never }]);

  const outline = useTool("area", (ring) => drawn({ ring: ring as Line }), snaps);
  const box = useTool("box", (ring) => drawn({ ring: ring as Line }), snaps);
  const freehand = useTool("freehand", (ring) => drawn({ ring: ring as Line }));
  const line = useTool("line", (places) => drawn({ line: places as Line }), snaps);
  const brush = useTool("brush", (places) => drawn({ line: places as Line }, useMend.getState().brush));
  const grow = useTool("pick", (at) => {
    const { x, y } = at as Pressed;
    grow.put(false);
    shape.mutate(
      { how: "grow", x, y, ...useMend.getState().grow, key: a?.key ?? "" },
      { onSuccess: ([ring]) => ring && drawn({ ring }) },
    );
  });
  const split = useTool("line", (places) => {
    if (!chosen?.content.ring) return;
    shape.mutate(
      { how: "split", rings: [chosen.content.ring as Line], line: places as Line },
      {
        onSuccess: ([first, ...others]) => {
          const put = (ring: Line) => ({ ...chosen.content, ring });
          change([
            { name: chosen.name, kind: chosen.kind, content: put(first as Line) as never },
            ...others.map((ring) => ({ name: freshName(), kind: chosen.kind, content: put(ring) as never })),
          ]);
        },
      },
    );
  });
  const copy = useTool("pick", (at) => {
    const { x, y } = at as Pressed;
    copy.put(false);
    if (!chosen) return;
    const name = freshName();
    const { ring, line: course } = chosen.content;
    const moved = ring ? { ring: movedTo(ring as Line, [x, y]) } : { line: movedTo(course as Line, [x, y]) };
    change([{ name, kind: chosen.kind, content: { ...chosen.content, ...moved } as never }]);
    set({ chosen: name });
  });
  const vertices = useCallback(() => {
    if (!chosen) return;
    const closed = Boolean(chosen.content.ring);
    useDesk.getState().take({
      kind: "vertices",
      owner: VERTICES,
      places: placesOf(chosen.content),
      closed,
      snaps,
      done: (places) =>
        change([
          {
            name: chosen.name,
            kind: chosen.kind,
            content: { ...chosen.content, [closed ? "ring" : "line"]: places } as never,
          },
        ]),
    });
  }, [chosen, change, snaps]);

  // the outline of what is opened can be changed at once, or as soon as what was drawn with is laid down
  const opened = useRef<string | null>(null);
  useEffect(() => {
    if (!chosen || !canMend) {
      opened.current = null;
      useDesk.getState().drop(VERTICES);
    } else if (kind === "vertices" || (kind === "read" && opened.current !== chosen.name)) {
      opened.current = chosen.name;
      vertices();
    }
  }, [chosen, canMend, kind, vertices]);
  useEffect(() => () => useDesk.getState().drop(VERTICES), []);

  const square = () => {
    const ring = chosen?.content.ring as Line | null | undefined;
    if (ring)
      shape.mutate({ how: "square", rings: [ring] }, { onSuccess: ([made]) => made && reshape({ ring: made }) });
  };
  const merge = () => {
    const ring = chosen?.content.ring as Line | null | undefined;
    const at = all.findIndex((one) => one.name === chosenName);
    const other = all.filter((one) => one.kind === chosen?.kind && one.name !== chosenName && one.content.ring);
    // with the one that stands nearest to it in the list
    const next = other.sort((one, two) => Math.abs(all.indexOf(one) - at) - Math.abs(all.indexOf(two) - at))[0];
    if (!ring || !next || !chosen) return;
    shape.mutate(
      { how: "merge", rings: [ring, next.content.ring as Line] },
      {
        onSuccess: ([made]) =>
          made &&
          change([
            { name: chosen.name, kind: chosen.kind, content: { ...chosen.content, ring: made } as never },
            { name: next.name, kind: next.kind, gone: true },
          ]),
      },
    );
  };
  const remove = () => {
    if (!chosen) return;
    change([{ name: chosen.name, kind: chosen.kind, gone: true }]);
    set({ chosen: null });
  };
  const isArea = Boolean(chosen?.content.ring);
  const toggle = (tool: { inHand: boolean; put: (on: boolean) => void }) => () => {
    shape.reset();
    tool.put(!tool.inHand);
  };
  const draw: ToolButton[] = [
    { name: "outline", title: "Outline", letter: "o", on: outline.inHand, press: toggle(outline) },
    { name: "box", title: "Rectangle", letter: "e", on: box.inHand, press: toggle(box) },
    { name: "freehand", title: "Freehand", letter: "h", on: freehand.inHand, press: toggle(freehand) },
    { name: "line", title: "Line with a width", letter: "l", on: line.inHand, press: toggle(line) },
    { name: "brush", title: "Brush", letter: "i", on: brush.inHand, press: toggle(brush) },
    { name: "grow", title: "Grow from a place", letter: "w", on: grow.inHand, press: toggle(grow) },
  ];
  const alter: ToolButton[] = [
    {
      name: "vertices",
      title: "Vertices",
      letter: "v",
      on: kind === "vertices",
      disabled: !chosen,
      press: () => (kind === "vertices" ? useDesk.getState().drop(VERTICES) : vertices()),
    },
    { name: "square", title: "Square the corners", letter: "q", disabled: !isArea, press: square },
    {
      name: "split",
      title: "Divide along a line",
      letter: "d",
      on: split.inHand,
      disabled: !isArea,
      press: toggle(split),
    },
    { name: "merge", title: "Unite with its neighbour in the list", letter: "u", disabled: !isArea, press: merge },
    {
      name: "copy",
      title: "Copy to another place",
      letter: "y",
      on: copy.inHand,
      disabled: !chosen,
      press: toggle(copy),
    },
  ];
  const look: ToolButton[] = [
    {
      name: "lens",
      title: "Lens",
      letter: "n",
      on: lens !== null && flat,
      disabled: !flat,
      press: () => set({ lens: lens ? null : LENS }),
    },
  ];
  useKeys({
    ...Object.fromEntries(
      [...draw, ...alter, ...look].map((one) => [one.letter, one.disabled ? undefined : one.press]),
    ),
    delete: canMend && chosen ? remove : undefined,
  });
  if (!surface) return null;
  return (
    <>
      <div className={styles.tools}>
        {canMend && <Bar label="Draw" tools={draw} />}
        {canMend && <Bar label="Change the outline" tools={alter} />}
        <Bar label="Look" tools={look} />
      </div>
      {(shape.error || shape.isPending) && (
        <div className={styles.said} role={shape.error ? "alert" : "status"}>
          {shape.error ? shape.error.message : "Looking at the ground…"}
          {shape.error && (
            <Button kind="link" onClick={() => shape.reset()}>
              Close
            </Button>
          )}
        </div>
      )}
    </>
  );
}
