/** The parameters of a worksheet that say which points are used, for figures about the same ones. */
export function pointsAsked(params: Record<string, unknown>): Record<string, unknown> {
  return {
    ...(params.codes ? { codes: params.codes } : {}),
    ...((params.left_out as unknown[] | undefined)?.length ? { left_out: params.left_out } : {}),
    ...(params.duplicates ? { duplicates: params.duplicates } : {}),
  };
}
