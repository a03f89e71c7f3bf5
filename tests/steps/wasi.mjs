// wasi.mjs - runs a program for WASI: node wasi.mjs PROGRAM ARGUMENT...
import { readFile } from 'node:fs/promises';
import { WASI } from 'node:wasi';

const [program, ...args] = process.argv.slice(2);
const wasi = new WASI({ version: 'preview1', args: [program, ...args], env: {} });
const module = await WebAssembly.compile(await readFile(program));
const imports = { wasi_snapshot_preview1: wasi.wasiImport };
process.exit(wasi.start(await WebAssembly.instantiate(module, imports)));
