import { useQuery, useQueryClient } from "@tanstack/react-query";
import { request, send } from "../api/client";
import { tell } from "../api/hooks";
import { useShared } from "./context";

/** What the shop keeps of a kind beside its jobs: to choose from, to take into this job, to keep and to drop. */
export function useKeptItems<T extends { name: string }>(kind: "fixtures" | "machines") {
  const { id } = useShared();
  const client = useQueryClient();
  const queryKey = ["shop", kind];
  const all =
    useQuery({ queryKey, queryFn: () => request<{ id: number; item: T }[]>(`/shop/${kind}`) }).data ?? [];
  const then = (done: Promise<unknown>) =>
    done.then(() => client.invalidateQueries({ queryKey })).catch(tell);
  return {
    choices: {
      group: "Kept by the shop",
      items: all.map(({ id: k, item }) => ({ value: `shop/${k}`, label: item.name })),
    },
    has: (name: string | undefined) => all.some(({ item }) => item.name === name),
    /** One that was chosen, with its files in this job. */
    take: (value: string) => send<T>("POST", `/shop/${kind}/${value.slice("shop/".length)}/into/${id}`),
    keep: (name: string) => then(send("POST", `/shop/${kind}/of/${id}`, { name })),
    drop: (name: string) =>
      then(send("DELETE", `/shop/${kind}/${all.find(({ item }) => item.name === name)?.id}`)),
  };
}
