import { downloadZip } from "client-zip";

/** Files that are sent as one: alone, or together as a zip of that name. */
export interface Bundle {
  name: string;
  files: File[];
}

const RASTERS = [".tif", ".tiff", ".png", ".asc", ".nc"];
const SHAPEFILE = [".shx", ".dbf", ".prj", ".cpg", ".sbn", ".sbx", ".qix"];

const suffixOf = (name: string) => (name.includes(".") ? name.slice(name.lastIndexOf(".")).toLowerCase() : "");
const stemOf = (name: string) => name.slice(0, name.length - suffixOf(name).length).toLowerCase();

/** Whether a file says of a raster of that name where it lies, in which CRS, or how its image was taken. */
function isBeside(raster: string, other: string): boolean {
  const [stem, low] = [stemOf(raster), other.toLowerCase()];
  const bare = suffixOf(raster).slice(1);
  const worlds = [".wld", `.${bare}w`, ...(bare.length > 1 ? [`.${bare[0]}${bare.at(-1)}w`] : [])];
  return (
    [`${stem}.prj`, `${stem}.aux.xml`, `${raster.toLowerCase()}.aux.xml`, `${stem}_rpc.txt`, `${stem}.rpc`].includes(
      low,
    ) ||
    [`${stem}.rpc.txt`, `${raster.toLowerCase()}.rpc`].includes(low) ||
    worlds.some((suffix) => low === stem + suffix)
  );
}

/** Chosen files with those that belong together as one: the parts of a shapefile, and a raster with what says where it lies. */
export function bundles(files: File[]): Bundle[] {
  const left = new Set(files);
  const found = new Map<File, File[]>();
  for (const file of files) {
    const suffix = suffixOf(file.name);
    const belongs = (other: File) =>
      other !== file &&
      left.has(other) &&
      (suffix === ".shp"
        ? stemOf(other.name) === stemOf(file.name) && SHAPEFILE.includes(suffixOf(other.name))
        : RASTERS.includes(suffix) && isBeside(file.name, other.name));
    const parts = files.filter(belongs);
    if (!parts.length) continue;
    found.set(file, parts);
    for (const part of [file, ...parts]) left.delete(part);
  }
  return files.flatMap((file): Bundle[] => {
    const parts = found.get(file);
    if (parts) return [{ name: `${file.name.slice(0, stemOf(file.name).length)}.zip`, files: [file, ...parts] }];
    return left.has(file) ? [{ name: file.name, files: [file] }] : [];
  });
}

/** What is sent of a bundle. Zips bear no times, so that the same files are the same bytes. */
export async function packed({ name, files }: Bundle): Promise<File> {
  if (files.length === 1) return files[0] as File;
  const lastModified = new Date(1980, 0, 1);
  const parts = files.map((file) => ({ name: file.name, input: file, lastModified }));
  return new File([await downloadZip(parts).blob()], name);
}
