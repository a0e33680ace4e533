/** The API reference, from the service's own OpenAPI document, without other servers. */
import "swagger-ui-dist/swagger-ui.css";
import SwaggerUI from "swagger-ui-dist/swagger-ui-es-bundle.js";
import { ROOT } from "./root";

SwaggerUI({
  url: `${ROOT}/api/openapi.json`,
  dom_id: "#api",
  deepLinking: true,
  docExpansion: "none",
  validatorUrl: null,
  requestInterceptor: (request: { headers: Record<string, string> }) => {
    request.headers["X-Fontanel-Console"] = "docs";
    return request;
  },
});
