/** Nothing was sent: nobody listened there, or the name is unknown. */
export function isRefusedConnection(error: unknown): boolean {
  const code = (error as NodeJS.ErrnoException | undefined)?.code ?? '';
  return (
    ['ECONNREFUSED', 'ENOTFOUND', 'EHOSTUNREACH', 'UND_ERR_CONNECT_TIMEOUT'].includes(code) ||
    (error instanceof AggregateError && error.errors.every(isRefusedConnection))
  );
}
