import { useQuery } from "@tanstack/react-query";
import { request } from "../../api/client";
import type { Tool } from "../../api/types";
import { useShared } from "../../session/context";

/** The dimensioned drawing of a tool. */
export function Drawing({ tool }: { tool: Tool }) {
  const { document } = useShared();
  const drawing = useQuery({
    queryKey: ["drawing", tool, document.units],
    queryFn: () =>
      request<string>(`/tools/drawing?unit=${document.units}`, {
        method: "POST",
        headers: { "content-type": "application/json" },
        body: JSON.stringify(tool),
      }),
    placeholderData: (before) => before,
  });
  return <div className="drawing" dangerouslySetInnerHTML={{ __html: drawing.data ?? "" }} />;
}
