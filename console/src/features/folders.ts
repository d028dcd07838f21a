// The folders that one may know of, as every page asks for them.

import { useQuery } from "@tanstack/react-query";
import { api, wholeList } from "../api";

export const useFolders = (enabled = true) =>
  useQuery({
    queryKey: ["folders"],
    queryFn: () => wholeList(api.GET("/api/v1/folders")),
    enabled,
    // There may be a hundred thousand: comparing them with what was there takes longer than drawing
    // those that are seen, and whoever changes one asks for all again.
    structuralSharing: false,
    staleTime: 60_000,
  });
