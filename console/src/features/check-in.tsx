// Checking in, wherever a checkout is shown.

import { api, result } from "../api";
import { Act } from "../parts";

/** The button that ends a checkout. */
export function CheckIn({ checkout }: { checkout: string }) {
  return (
    <Act
      label="Check in"
      run={() =>
        result(
          api.POST("/api/v1/checkouts/{checkout}/check-in", { params: { path: { checkout } } }),
        )
      }
      after={["overview", "checkouts", "credential"]}
    />
  );
}
