import { type ComponentType, lazy, Suspense } from "react";
import type { Me, Project } from "../api/client";
import { ScorecardView } from "../judge/ScorecardView";
import { MapView } from "../map/MapView";
import { PairKey } from "../pair/PairKey";
import { PairView } from "../pair/PairView";
import { NewProject } from "../stages/gather/NewProject";
import { Worksheet } from "../stages/Worksheet";
import type { BenchName } from "./benches";
import styles from "./desk.module.css";
import { KeyBindings } from "./KeyBindings";
import { Key } from "./key/Key";
import { ProbeLine } from "./ProbeLine";
import { StageRail } from "./StageRail";
import { StandIn } from "./StandIn";
import { Strip } from "./Strip";
import { useDesk } from "./store";
import { TopBar } from "./TopBar";

// three dimensions are fetched when somebody wants them
const VIEWS: Record<BenchName, ComponentType> = {
  map: MapView,
  scene: lazy(() => import("../map3d/View3D")),
  pair: PairView,
  scorecard: ScorecardView,
};
/** What stands in the key's column; the bench itself where there is none. */
const KEYS: Record<BenchName, ComponentType | null> = { map: Key, scene: Key, pair: PairKey, scorecard: null };

interface Props {
  project: Project | null;
  me: Me;
  projects: Project[];
  open: (id: number) => void;
}

/** The one screen: stages, worksheet, map, key, probe, strip. */
export function Desk({ project, me, projects, open }: Props) {
  const bench = useDesk((desk) => desk.bench);
  const [View, Legend] = [VIEWS[bench], KEYS[bench]];
  if (!project)
    return (
      <div className={styles.desk}>
        <TopBar project={null} me={me} projects={[]} open={open} />
        <nav className="rail" aria-label="Stages" />
        <section className="sheet" aria-label="Worksheet">
          <NewProject open={open} />
        </section>
        <main className="view">
          <div className="map">
            <div className="maphint">You are in no project yet. Make one on the left, or ask an owner to add you.</div>
          </div>
        </main>
      </div>
    );
  return (
    <div className={styles.desk}>
      <KeyBindings />
      <StandIn />
      <TopBar project={project} me={me} projects={projects} open={open} />
      <StageRail />
      <Worksheet open={open} />
      <main className="view">
        <Suspense fallback={<div className="map" aria-busy="true" />}>
          <View />
        </Suspense>
        {Legend && <Legend />}
        <ProbeLine />
      </main>
      <Strip />
    </div>
  );
}
