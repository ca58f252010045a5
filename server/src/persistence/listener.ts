import { Client } from 'pg';

export interface Listener {
  close(): Promise<void>;
}

/**
 * Hears what is told through PostgreSQL's notifications, on a connection of its own.
 * @param onEnd called once, when the connection has ended without being closed here
 */
export async function listen(
  url: string,
  name: string,
  channels: readonly string[],
  onNotice: (channel: string, payload: string) => void,
  onEnd: () => void,
): Promise<Listener> {
  const client = new Client({ connectionString: url, application_name: name });
  let isOpen = true;
  const end = (): void => {
    if (isOpen) onEnd();
    isOpen = false;
  };
  client.on('notification', ({ channel, payload }) => onNotice(channel, payload ?? ''));
  client.on('error', end);
  client.on('end', end);
  await client.connect();
  await client.query(channels.map((channel) => `listen ${channel}`).join('; '));
  return {
    close: async () => {
      isOpen = false;
      await client.end().catch(() => undefined);
    },
  };
}
