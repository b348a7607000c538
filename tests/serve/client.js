// SPDX-License-Identifier: MIT
// A client of the Debug Adapter Protocol, for tests: every message that comes is held against the
// protocol's schema.
'use strict';
const { spawn } = require('child_process');
const fs = require('fs');
const path = require('path');
const Ajv = require('ajv');

const ajv = new Ajv({ schemaId: 'auto', unknownFormats: 'ignore' });
ajv.addSchema(JSON.parse(fs.readFileSync(path.join(__dirname, 'protocol.schema.json'))), 'dap');
const checks = new Map();
function check(type, message) {
  const name = `DebugProtocol.${type}`;
  if (!checks.has(name)) checks.set(name, ajv.compile({ $ref: `dap#/definitions/${name}` }));
  const valid = checks.get(name);
  if (!valid(message))
    throw new Error(`${name}: ${ajv.errorsText(valid.errors)}\n${JSON.stringify(message)}`);
}
const capital = (word) => word[0].toUpperCase() + word.slice(1);

class Client {
  /// `input` and `output` are streams.
  constructor(input, output) {
    this.output = output;
    this.buffer = Buffer.alloc(0);
    this.next = 1;
    this.expected = 1;
    this.waiting = new Map();
    this.events = [];
    this.ears = [];
    this.messages = 0;
    this.failure = null;
    input.on('data', (data) => {
      try {
        this.take(data);
      } catch (error) {
        this.failure = error;
        for (const [, { reject }] of this.waiting) reject(error);
        for (const ear of this.ears.splice(0)) ear();
      }
    });
  }
  take(data) {
    this.buffer = Buffer.concat([this.buffer, data]);
    for (;;) {
      const head = this.buffer.indexOf('\r\n\r\n');
      if (head < 0) return;
      const length = Number(/^Content-Length: (\d+)$/.exec(this.buffer.slice(0, head))[1]);
      if (this.buffer.length < head + 4 + length) return;
      const message = JSON.parse(this.buffer.slice(head + 4, head + 4 + length));
      this.buffer = this.buffer.slice(head + 4 + length);
      ++this.messages;
      if (message.seq !== this.expected++) throw new Error(`seq ${message.seq}`);
      if (message.type === 'response') {
        check(message.success ? `${capital(message.command)}Response` : 'ErrorResponse', message);
        const { resolve } = this.waiting.get(message.request_seq);
        this.waiting.delete(message.request_seq);
        resolve(message);
      } else {
        check(`${capital(message.event)}Event`, message);
        this.events.push(message);
        for (const ear of this.ears.splice(0)) ear();
      }
    }
  }
  raw(text) {
    this.output.write(text);
  }
  send(message) {
    const text = JSON.stringify(message);
    this.raw(`Content-Length: ${Buffer.byteLength(text)}\r\n\r\n${text}`);
  }
  /// The whole response, whether or not it is a success.
  ask(command, args) {
    const seq = this.next++;
    const message = { seq, type: 'request', command };
    if (args !== undefined) message.arguments = args;
    return new Promise((resolve, reject) => {
      if (this.failure) return reject(this.failure);
      this.waiting.set(seq, { resolve, reject });
      this.send(message);
    });
  }
  /// The body of a success.
  async get(command, args) {
    const answer = await this.ask(command, args);
    if (!answer.success) throw new Error(`${command}: ${answer.message}`);
    return answer.body;
  }
  async refused(command, args) {
    const answer = await this.ask(command, args);
    if (answer.success) throw new Error(`${command} was not refused`);
    return answer.message;
  }
  async event(name, fits = () => true) {
    for (;;) {
      if (this.failure) throw this.failure;
      const at = this.events.findIndex((e) => e.event === name && fits(e.body));
      if (at >= 0) return this.events.splice(at, 1)[0].body;
      await new Promise((resolve) => this.ears.push(resolve));
    }
  }
  /// The same with a command before it.
  async stops(command, args) {
    await this.get(command, args);
    return this.event('stopped');
  }
}

/// A program of ours over its standard streams.
function started(program, args) {
  const child = spawn(program, args, { stdio: ['pipe', 'pipe', 'pipe'] });
  child.complaints = '';
  child.stderr.on('data', (data) => (child.complaints += data));
  child.ended = new Promise((resolve) => child.on('exit', (code) => resolve(code)));
  child.stdin.on('error', () => {});  // it may have ended
  return child;
}

module.exports = { Client, started };
