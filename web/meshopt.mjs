// For tests: packs buffer views with the reference encoder. Input: JSON, a list of { mode, stride, count, filter, bits, data },
// data being base64 of floats where there is a filter, of the rows as they are otherwise. Output: a list of { packed, plain },
// plain being what the reference decoder makes of what was packed.

import { readFileSync } from "node:fs";
import { MeshoptDecoder, MeshoptEncoder } from "meshoptimizer";

await Promise.all([MeshoptDecoder.ready, MeshoptEncoder.ready]);
const filters = {
  OCTAHEDRAL: (values, job) => MeshoptEncoder.encodeFilterOct(values, job.count, job.stride, job.bits),
  QUATERNION: (values, job) => MeshoptEncoder.encodeFilterQuat(values, job.count, job.stride, job.bits),
  EXPONENTIAL: (values, job) => MeshoptEncoder.encodeFilterExp(values, job.count, job.stride, job.bits),
};
const out = JSON.parse(readFileSync(0, "utf-8")).map((job) => {
  const bytes = new Uint8Array(Buffer.from(job.data, "base64"));
  const filter = filters[job.filter];
  const rows = filter ? filter(new Float32Array(bytes.buffer), job) : bytes;
  const packed = MeshoptEncoder.encodeGltfBuffer(rows, job.count, job.stride, job.mode, 0);
  const plain = new Uint8Array(job.count * job.stride);
  MeshoptDecoder.decodeGltfBuffer(plain, job.count, job.stride, packed, job.mode, job.filter);
  return { packed: Buffer.from(packed).toString("base64"), plain: Buffer.from(plain).toString("base64") };
});
process.stdout.write(JSON.stringify(out));
