// What the build makes: see vite.config.ts.
declare module "virtual:lakes" {
  const lakes: GeoJSON.MultiPolygon;
  export default lakes;
}
