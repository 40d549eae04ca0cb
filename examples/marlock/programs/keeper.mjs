// Moves the gate, and follows it: node programs/keeper.mjs PORT PERCENT
import { openSync, readSync, writeSync } from "node:fs";
import * as marlock from "../gen/javascript/marlock.js";

const port = openSync(process.argv[2], "r+");
const target = marlock.MoveGate.rawTarget(Number(process.argv[3]));
const order = new marlock.MoveGate({ target, speed: marlock.MoveGate.rawSpeed(20) });
writeSync(port, marlock.buildBus485({ node: 3, kind: marlock.MoveGate.ID, counter: 1, body: order.encode() }));

const receiver = new marlock.Bus485Receiver();
const bytes = new Uint8Array(256);
let accepted = false;
for (;;) {
  const count = readSync(port, bytes);
  for (const { frame, message, error } of receiver.feed(bytes.subarray(0, count))) {
    if (message instanceof marlock.MoveAccepted) {
      accepted = true;
      console.log(`node ${frame.node} accepts ${marlock.MoveGate.physicalTarget(message.target)} %`);
    } else if (message instanceof marlock.Refused) {
      console.log(`node ${frame.node} refuses: ${message.reason}`);
      process.exit(1);
    } else if (message instanceof marlock.GateStatus && accepted) {
      console.log(`node ${frame.node} is at ${marlock.GateStatus.physicalOpening(message.opening)} %`);
      if (message.opening === target) {
        process.exit(0);
      }
    } else if (error !== null) {
      console.log(`a frame that cannot be read: ${error.message}`);
    }
  }
}
