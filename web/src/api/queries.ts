import { keepPreviousData, QueryClient, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect, useRef } from "react";
import {
  type Accepted,
  ApiError,
  call,
  type Holding,
  type Job,
  type Looked,
  type Me,
  type Operation,
  type Picture,
  type Preview,
  type Probe,
  type Project,
  type ViewFigures,
} from "./client";
import { KEYS } from "./keys";

export const client = new QueryClient({
  defaultOptions: {
    queries: {
      staleTime: 10_000,
      refetchOnWindowFocus: false,
      retry: (count, error) => count < 2 && !(error instanceof ApiError && error.status > 0),
    },
  },
});

export const useMe = () => useQuery({ queryKey: KEYS.me(), queryFn: () => call<Me>("GET", "/accounts/me") });

export const useProjects = () =>
  useQuery({ queryKey: KEYS.projects(), queryFn: () => call<Project[]>("GET", "/projects") });

export const useOperations = () =>
  useQuery({
    queryKey: KEYS.operations(),
    queryFn: () => call<Operation[]>("GET", "/projects/operations"),
    staleTime: Infinity,
  });

export const useHoldings = (projectId: number) =>
  useQuery({
    queryKey: KEYS.holdings(projectId),
    queryFn: () => call<Holding[]>("GET", `/projects/${projectId}/holdings`),
  });

export const isOpen = (job: Job) => job.state === "queued" || job.state === "running";

/** Jobs, looked at often while one is open; holdings are read again when one ends. */
export function useJobs(projectId: number) {
  const queries = useQueryClient();
  const jobs = useQuery({
    queryKey: KEYS.jobs(projectId),
    queryFn: () => call<Job[]>("GET", `/projects/${projectId}/jobs`),
    refetchInterval: (query) => (query.state.data?.some(isOpen) ? 500 : 15_000),
  });
  // a job may begin and end between two looks, so it is the ended ones that are watched
  const ended = jobs.data
    ?.filter((job) => !isOpen(job))
    .map((job) => job.id)
    .join();
  const before = useRef<string | undefined>(undefined);
  useEffect(() => {
    if (ended !== undefined && before.current !== undefined && ended !== before.current)
      queries.invalidateQueries({ queryKey: KEYS.holdings(projectId) });
    before.current = ended;
  }, [ended, projectId, queries]);
  return jobs;
}

export interface RunBody {
  operation: string;
  params: Record<string, unknown>;
  inputs: Looked;
  /** Which of what it gives is looked at; the first where there is none. */
  output?: string;
}

/** The preview of an operation; the last one stays in sight while the next is made. */
export const usePreview = (projectId: number, body: RunBody | null) =>
  useQuery({
    queryKey: KEYS.preview(projectId, body),
    queryFn: ({ signal }) => call<Preview>("POST", `/projects/${projectId}/previews`, body, signal),
    enabled: body !== null,
    placeholderData: keepPreviousData,
    staleTime: 60_000,
    retry: false,
  });

export interface PicturesBody {
  runs: RunBody[];
  bounds: [number, number, number, number];
  width: number;
  height: number;
}

/** What runs would make of one small area, as pictures. */
export const usePictures = (projectId: number, body: PicturesBody | null) =>
  useQuery({
    queryKey: KEYS.pictures(projectId, body),
    queryFn: ({ signal }) => call<Picture[]>("POST", `/projects/${projectId}/pictures`, body, signal),
    enabled: body !== null,
    placeholderData: keepPreviousData,
    staleTime: 60_000,
    gcTime: 60_000,
    retry: false,
  });

/** What surfaces say at a place: A and B with all that is known there, others with their heights alone. */
export const useProbe = (
  projectId: number,
  at: [number, number] | null,
  a: string | null,
  b: string | null,
  others: string[] = [],
) =>
  useQuery({
    queryKey: KEYS.probe(projectId, at, a, b, others),
    queryFn: ({ signal }) => {
      const query = new URLSearchParams({ x: String(at?.[0]), y: String(at?.[1]), a: a ?? "", b: b ?? "" });
      for (const one of others) query.append("others", one);
      return call<Probe>("GET", `/projects/${projectId}/probe?${query}`, undefined, signal);
    },
    enabled: at !== null,
    placeholderData: keepPreviousData,
    gcTime: 20_000,
  });

/** Figures of surfaces over an area; null is the whole frame. */
export const useFigures = (projectId: number, keys: string[], bounds: number[] | null, enabled = true) =>
  useQuery({
    queryKey: KEYS.figures(projectId, keys, bounds),
    queryFn: ({ signal }) =>
      call<Record<string, ViewFigures>>("POST", `/projects/${projectId}/views`, { keys, bounds }, signal),
    enabled: enabled && keys.length > 0,
    placeholderData: keepPreviousData,
    gcTime: 60_000,
  });

/** Run an operation, or store a live holding: both start a job. */
export function useStart(projectId: number) {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: ({ path, body }: { path: string; body?: unknown }) =>
      call<Accepted>("POST", `/projects/${projectId}${path}`, body),
    onSettled: () => queries.invalidateQueries({ queryKey: KEYS.jobs(projectId) }),
  });
}
