import { useBlob } from "../../api/hooks";
import { useShared } from "../../session/context";
import { useSession } from "../../session/store";

/** The triangles of the chosen setup's stock where it is no box. */
export function useStockShape(shape: string | null | undefined, name?: string) {
  const { id, state } = useShared();
  const chosen = useSession((s) => s.setup);
  const index = name === undefined ? chosen : (state?.setups.findIndex((s) => s.name === name) ?? -1);
  return useBlob(shape && index >= 0 ? `/jobs/${id}/setups/${index}/stock/${shape}` : null).data;
}

/** The triangles of a setup's fixture. */
export function useFixture(shape: string | null | undefined, name?: string) {
  const { id, state } = useShared();
  const index = state?.setups.findIndex((s) => s.name === name) ?? -1;
  return useBlob(shape && index >= 0 ? `/jobs/${id}/setups/${index}/fixture/${shape}` : null).data;
}
