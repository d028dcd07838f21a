// The types of devices that the service can reach.

import { useQuery } from "@tanstack/react-query";
import { api, wholeList } from "../api";

export const useDeviceTypes = () =>
  useQuery({
    queryKey: ["device-types"],
    queryFn: () => wholeList(api.GET("/api/v1/device-types")),
    staleTime: Number.POSITIVE_INFINITY,
  });
