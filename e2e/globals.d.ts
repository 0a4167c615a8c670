// What the scripts find around them.
declare var browser: typeof chrome | undefined;
declare module "*.css" {
  const text: string;
  export default text;
}
