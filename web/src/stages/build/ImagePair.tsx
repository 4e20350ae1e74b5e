import { useEffect, useMemo, useState } from "react";
import type { Accepted } from "../../api/client";
import { choicesOf, propertyOf } from "../../api/operations";
import { isOpen, useJobs, useStart } from "../../api/queries";
import { useHeld, useProject } from "../../desk/context";
import { capital, num, percent } from "../../desk/format";
import { type OwnTab, useOwnTab } from "../../desk/ownTab";
import { useDesk } from "../../desk/store";
import styles from "../../pair/pair.module.css";
import { usePairState } from "../../pair/state";
import { TiesTab } from "../../pair/TiesTab";
import { Picture } from "../../pair/TryColumn";
import { useAdjusting, useBare, useLook, useModel, useTies, useTry } from "../../pair/usePair";
import { Button } from "../../ui/Button";
import { Choice } from "../../ui/Choice";
import { NumberField } from "../../ui/NumberField";
import { Card } from "../../ui/Radio";
import { Refusal } from "../../ui/Refusal";
import { Told } from "../../ui/Row";
import { Findings } from "../Findings";
import { Rectangle } from "../fit/Rectangle";
import { OperationSheet } from "../OperationSheet";
import { RoleField } from "../RoleField";
import { type AnyWork, useWorksheet } from "../useWorksheet";

const TIES: OwnTab = { title: "Tie points", hint: "Places that both images show alike, worst first", Body: TiesTab };

const signed = (value: number) => `${value > 0 ? "+" : ""}${num(value, 2)}`;
const shiftOf = ([col, row]: [number, number]) => `${signed(col)}, ${signed(row)}`;

/** A job of one step: started, watched, and what it made. */
function useStep(onMade: (id: number) => void) {
  const project = useProject();
  const { data: jobs = [] } = useJobs(project.id);
  const start = useStart(project.id);
  const [made, setMade] = useState<Accepted | null>(null);
  const job = jobs.find((one) => one.id === made?.job?.id);
  const done = made?.holding_id ?? (job?.state === "done" ? job.holding_id : null);
  useEffect(() => {
    if (done == null) return;
    setMade(null);
    onMade(done);
  }, [done, onMade]);
  const running = start.isPending || (made?.job != null && (!job || isOpen(job)));
  return {
    running,
    progress: job?.progress ?? 0,
    failed: start.error?.message ?? (job?.state === "failed" ? job.message : null),
    start: (operation: string, inputs: object, params: object, name: string) =>
      start.mutate({ path: "/runs", body: { operation, inputs, params, name } }, { onSuccess: setMade }),
  };
}

/** One preset of matching, as a picture of what it makes of the window. */
function Preset({ work, value, title, hint }: { work: AnyWork; value: string; title: string; hint?: string }) {
  const { data } = useTry(value);
  return (
    <Card
      className={styles.preset ?? ""}
      title={hint}
      group="preset"
      checked={work.params.preset === value}
      onChoose={() => work.setParams({ preset: value })}
    >
      {data ? (
        <Picture
          cells={data.heights}
          size={data.size}
          of="height"
          span={[data.lowest ?? 0, data.highest ?? 1]}
          label={`The window as matched for ${title} ground`}
        />
      ) : (
        <span className={styles.picture} />
      )}
      <span>{capital(title)}</span>
      <span className="n">{data ? `${num(100 * data.empty, 1)} % empty` : "…"}</span>
    </Card>
  );
}

/** From two images to heights: images, tie points, models, matching, surface. */
export function ImagePair() {
  const project = useProject();
  const { all } = useHeld();
  const work = useWorksheet("image_pair");
  const { params, setParams, setInput } = work;
  const set = useDesk((desk) => desk.set);
  const bench = useDesk((desk) => desk.bench);
  const change = useDesk((desk) => desk.sheet);
  const adjusting = useDesk((desk) => desk.sheets.adjust_models);
  const { data: look, error } = useLook();
  const { ties, facts } = useTies();
  const { adding, set: setPair } = usePairState();
  useOwnTab(TIES);
  const any = work as unknown as AnyWork;
  const [left] = work.ids("left");
  const [right] = work.ids("right");
  const tied = adjusting?.inputs.ties as number | undefined;
  const images = all.filter((one) => one.kind === "image");

  // images are numbered along the flight: the first by name is most likely the left one
  const byName = [...images].sort((one, another) => one.name.localeCompare(another.name));
  const start = byName[0]?.id;
  useEffect(() => {
    if (left === undefined && start !== undefined) setInput("left", start);
  }, [left, start, setInput]);

  // two images are side by side as soon as there are two; leaving the worksheet brings the map back
  useEffect(() => {
    if (images.length > 1) set({ bench: "pair" });
    return () => useDesk.setState(({ bench }) => (bench === "pair" ? { bench: "map" } : {}));
  }, [images.length, set]);
  const other = byName.find((one) => one.id !== left)?.id;
  useEffect(() => {
    if (left !== undefined && (right === undefined || right === left) && other !== undefined) setInput("right", other);
  }, [left, right, other, setInput]);

  const finding = useStep(
    useMemo(
      () => (id: number) => change("adjust_models", { inputs: { ties: id }, params: { left_out: [] } }),
      [change],
    ),
  );
  const adjust = useStep(useMemo(() => (id: number) => setInput("model", id), [setInput]));
  const pair = { left, right };
  const names = [left, right].map((id) => all.find((one) => one.id === id)?.name ?? "");
  const name = names.join(" and ");
  const extra = Object.fromEntries(
    (["control", "geoid"] as const).flatMap((role) =>
      work.ids(role)[0] === undefined ? [] : [[role, work.ids(role)[0]]],
    ),
  );
  const model = all.find((one) => one.id === work.ids("model")[0]);
  const { leftOut, added, settings } = useAdjusting();
  const setAdjust = (values: Record<string, unknown>) =>
    change("adjust_models", { params: { ...adjusting?.params, ...values } });
  const bare = useBare();
  const adjusted = useModel();
  const may = work.canRun && look !== undefined;

  return (
    <OperationSheet
      work={work}
      lead="Heights from two images that overlap and know by rational polynomials where they look."
      name={`Heights of ${name}`}
      missing="No image yet. Add two images with their rational polynomials in Gather."
      parts={[
        {
          title: "Images",
          aside: look ? `rays ${num(look.angle, 1)}° apart` : undefined,
          sign: look ? "settled" : "open",
          told: look && (
            <>
              {names.join(", ")}, <b className="n">{percent(Math.min(...look.overlap))}</b> in common, a cell of
              parallax <b className="n">{num(look.height_of_cell, 2)} m</b>
            </>
          ),
          of: [
            "in:left",
            <RoleField key="right" work={any} input="right" but={(one) => one.id === left} />,
            look ? (
              <Told key="worth" label="One cell">
                of parallax is <b className="n">{num(look.height_of_cell, 2)} m</b> of height
              </Told>
            ) : (
              false
            ),
            look ? (
              <Told key="overlap" label="In common">
                <b className="n">{percent(Math.min(...look.overlap))}</b> of the ground, cells of{" "}
                <b className="n">{num(look.cell, 2)} m</b>
              </Told>
            ) : (
              false
            ),
            error ? <Refusal key="error" sentence={error.message} /> : false,
            bench !== "pair" && images.length > 1 ? (
              <Button key="bench" kind="link" onClick={() => set({ bench: "pair" })}>
                Show both images
              </Button>
            ) : (
              false
            ),
          ],
        },
        {
          title: "Tie points",
          aside: ties.length ? `rms ${num(facts.rms, 2)} px` : undefined,
          sign: !ties.length ? "open" : bare.length ? "caution" : "settled",
          told: ties.length > 0 && (
            <>
              <b className="n">{num(ties.filter((tie) => tie.used && !leftOut.includes(tie.number)).length)}</b> of{" "}
              <b className="n">{num(ties.length)}</b> kept
              {bare.length > 0 && `, ${bare.length === 1 ? "one corner" : `${bare.length} corners`} bare`}
            </>
          ),
          of: [
            <div className="acts" key="find">
              <Button
                disabled={!may || finding.running}
                onClick={() => finding.start("tie_points", pair, {}, `Tie points of ${name}`)}
              >
                {finding.running
                  ? `Finding, ${percent(finding.progress)}`
                  : ties.length
                    ? "Find them again"
                    : "Find tie points"}
              </Button>
              {ties.length > 0 && (
                <span className="mut">
                  <span className="n">
                    {num(ties.filter((tie) => tie.used && !leftOut.includes(tie.number)).length)}
                  </span>{" "}
                  of <span className="n">{num(ties.length)}</span> kept
                </span>
              )}
            </div>,
            ties.length > 0 ? (
              <NumberField
                key="most"
                label="Leave out over"
                unit="px"
                value={adjusting?.params.most as number | null}
                placeholder="by their spread"
                onChange={(most) => setAdjust({ most })}
              />
            ) : (
              false
            ),
            ties.length > 0 ? (
              <div className="acts" key="add">
                <Button aria-pressed={adding} onClick={() => setPair({ adding: !adding })}>
                  Add one by hand
                </Button>
                {added.length > 0 && (
                  <Button kind="link" onClick={() => setAdjust({ added: [] })}>
                    Forget {num(added.length)} added
                  </Button>
                )}
              </div>
            ) : (
              false
            ),
            <Findings key="findings" findings={bare} bare />,
            finding.failed ? <Refusal key="failed" sentence={finding.failed} /> : false,
          ],
        },
        {
          title: "Model",
          aside: model ? "adjusted" : "as delivered",
          sign: model ? "settled" : "open",
          told: adjusted && (
            <>
              shift, px: left <b className="n">{shiftOf(adjusted.left)}</b>, right{" "}
              <b className="n">{shiftOf(adjusted.right)}</b>
              {adjusted.control && (
                <>
                  ; <b className="n">{num(adjusted.control.count)}</b> heights:{" "}
                  <b className="n">{signed(adjusted.control.up)} m</b>
                </>
              )}
            </>
          ),
          of: [
            <RoleField key="control" work={any} input="control" none="none: only tie points" />,
            <RoleField key="geoid" work={any} input="geoid" none="none: above the ellipsoid" />,
            <Choice
              key="correction"
              label="Images are"
              value={String(adjusting?.params.correction ?? "shift")}
              options={choicesOf("adjust_models", "correction")}
              onChange={(correction) => setAdjust({ correction })}
            />,
            <div className="acts" key="adjust">
              <Button
                disabled={!may || tied === undefined || adjust.running}
                onClick={() =>
                  adjust.start("adjust_models", { ...pair, ...extra, ties: tied }, settings, `Models of ${name}`)
                }
              >
                {adjust.running ? `Adjusting, ${percent(adjust.progress)}` : "Adjust models"}
              </Button>
            </div>,
            <RoleField key="model" work={any} input="model" none="as delivered: adjusted while it runs" />,
            adjusted ? (
              <Told key="shift" label="Moved by">
                left <b className="n">{shiftOf(adjusted.left)} px</b>, right{" "}
                <b className="n">{shiftOf(adjusted.right)} px</b>
              </Told>
            ) : (
              false
            ),
            adjusted?.control ? (
              <Told key="heights" label="Heights">
                <b className="n">{num(adjusted.control.count)}</b> agree to{" "}
                <b className="n">{num(adjusted.control.spread, 2)} m</b>, moved by{" "}
                <b className="n">{signed(adjusted.control.up)} m</b>
              </Told>
            ) : (
              false
            ),
            adjust.failed ? <Refusal key="failed" sentence={adjust.failed} /> : false,
          ],
        },
        {
          title: "Matching",
          aside: "share empty, as tried here",
          sign: "open",
          told: capital(choicesOf("image_pair", "preset").find(({ value }) => value === params.preset)?.title ?? ""),
          of: [
            <div key="presets" className={styles.presets} role="radiogroup" aria-label="Ground">
              {choicesOf("image_pair", "preset").map(({ value, title }) => (
                <Preset
                  key={value}
                  work={any}
                  value={value}
                  title={title}
                  hint={propertyOf("image_pair", "preset").hints?.[value]}
                />
              ))}
            </div>,
            <NumberField
              key="low"
              label="Heights from"
              unit="m"
              value={params.low}
              placeholder={look ? num(look.heights[0]) : "by tie points"}
              onChange={(low) => setParams({ low })}
            />,
            <NumberField
              key="high"
              label="to"
              unit="m"
              value={params.high}
              placeholder={look ? num(look.heights[1]) : "by tie points"}
              onChange={(high) => setParams({ high })}
            />,
            "smoothness",
            "likeness",
          ],
        },
        {
          title: "Surface",
          aside: params.cell_size ? `${num(params.cell_size, 2)} m cells` : "the frame's cells",
          sign: "open",
          of: [
            "cell_size",
            "points",
            "in:empty",
            <Rectangle
              key="where"
              box={params.bounds ?? null}
              onMap
              instead="The whole frame"
              onNone={() => work.setParams({ bounds: null })}
              onChange={(bounds) => work.setParams({ bounds })}
            />,
            "name",
          ],
        },
      ]}
      foot={{
        action: "Run",
        refused: project.role === "viewer" ? "Viewers look; only editors and owners run this." : null,
      }}
    />
  );
}
