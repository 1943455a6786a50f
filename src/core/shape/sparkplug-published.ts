// For tests: a reader that knows the published definition and nothing of us.
import protobuf from 'protobufjs'

/** The payload as the standard publishes it (Sparkplug 3.0 6.4), of it what is used here. */
export const published = protobuf
  .parse(`
syntax = "proto2";
package org.eclipse.tahu.protobuf;
message Payload {
  message PropertyValue { optional uint32 type = 1; optional bool is_null = 2; oneof value {
    uint32 int_value = 3; uint64 long_value = 4; float float_value = 5; double double_value = 6; bool boolean_value = 7; string string_value = 8; } }
  message PropertySet { repeated string keys = 1; repeated PropertyValue values = 2; }
  message Metric { optional string name = 1; optional uint64 alias = 2; optional uint64 timestamp = 3; optional uint32 datatype = 4;
    optional bool is_historical = 5; optional bool is_transient = 6; optional bool is_null = 7; optional PropertySet properties = 9;
    oneof value { uint32 int_value = 10; uint64 long_value = 11; float float_value = 12; double double_value = 13; bool boolean_value = 14; string string_value = 15; bytes bytes_value = 16; } }
  optional uint64 timestamp = 1; repeated Metric metrics = 2; optional uint64 seq = 3; optional string uuid = 4; optional bytes body = 5;
}`)
  .root.lookupType('org.eclipse.tahu.protobuf.Payload')
