declare module "swagger-ui-dist/swagger-ui-es-bundle.js" {
  const start: (options: Record<string, unknown>) => void;
  export default start;
}
