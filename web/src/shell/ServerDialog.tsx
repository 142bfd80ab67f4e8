import { useQuery } from "@tanstack/react-query";
import { api, data } from "../api/client";
import { Modal } from "../ui/Modal";

const MIB = 2 ** 20;
const mib = (bytes: number) => `${Math.round(bytes / MIB).toLocaleString("en-GB")} MiB`;

/** How the server is doing: its memory, what is kept in it, and the simulations that run. */
export function ServerDialog({ open, onOpen }: { open: boolean; onOpen: (open: boolean) => void }) {
  const server = useQuery({
    queryKey: ["server"],
    queryFn: ({ signal }) => data(api.GET("/api/v1/server", { signal })),
    enabled: open,
    refetchInterval: 2000,
  });
  const told = server.data;
  return (
    <Modal open={open} onOpen={onOpen} title="Server">
      {server.error && <p role="alert">{server.error.message}</p>}
      {told && (
        <>
          <p>
            Memory in use: {mib(told.resident_bytes)}. Build {told.build}.
          </p>
          <p>
            Simulations: {told.simulations.running} running, {told.simulations.waiting} waiting
            {told.simulations.at_once !== null &&
              `; at most ${told.simulations.at_once} run at once`}
            . Proposals and other long computations: {told.computations.running} running,{" "}
            {told.computations.waiting} waiting.
          </p>
          <table className="mt-3 w-full">
            <caption className="text-left text-ink-2">
              Results kept in memory; the longest unused go first
            </caption>
            <thead>
              <tr className="border-b border-rule text-left">
                <th scope="col">Kind</th>
                <th scope="col" className="text-right">
                  Entries
                </th>
                <th scope="col" className="text-right">
                  Size
                </th>
                <th scope="col" className="text-right">
                  Limit
                </th>
              </tr>
            </thead>
            <tbody>
              {told.caches.map((cache) => (
                <tr key={cache.name} className="border-b border-rule">
                  <td>{cache.name}</td>
                  <td className="text-right">{cache.entries.toLocaleString("en-GB")}</td>
                  <td className="text-right">{mib(cache.bytes)}</td>
                  <td className="text-right">{mib(cache.most_bytes)}</td>
                </tr>
              ))}
            </tbody>
          </table>
        </>
      )}
    </Modal>
  );
}
