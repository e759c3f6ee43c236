#!/usr/bin/env python3
"""Speaks for {{.Device}}: sends readings, and takes settings and commands.

Needs paho-mqtt (Debian: python3-paho-mqtt). Usage: send.py [how many readings]
"""
import json
import os
import ssl
import sys
import time

import paho.mqtt.client as mqtt

os.chdir(os.path.dirname(os.path.abspath(__file__)))
HOST, PORT, DEVICE = {{py .MQTTHost}}, {{.MQTTPort}}, {{py .Device}}
READING = json.loads({{py .Readings}})
TOPIC = "ullage/" + DEVICE + "/"
most = int(sys.argv[1]) if len(sys.argv) > 1 else 0


def connected(client, userdata, flags, code, *properties):
    if code != 0:
        print("not let in:", code, file=sys.stderr)
        os._exit(1)
    client.subscribe([(TOPIC + "intended", 1), (TOPIC + "command/+", 1), (TOPIC + "problem", 0)])


def heard(client, userdata, message):
    name = message.topic[len(TOPIC):]
    print(name, message.payload.decode())
    if name == "intended":  # do what it says, then confirm it
        said = json.loads(message.payload)
        client.publish(TOPIC + "applied", json.dumps({"revision": said["revision"], "applied": said["intended"]}), 1)
    elif name.startswith("command/"):
        said = json.loads(message.payload)
        client.publish(TOPIC + "reply", json.dumps({"id": said["id"], "error": "this sample does nothing"}), 1)


if hasattr(mqtt, "CallbackAPIVersion"):
    client = mqtt.Client(mqtt.CallbackAPIVersion.VERSION1, client_id=DEVICE, protocol=mqtt.MQTTv311)
else:
    client = mqtt.Client(client_id=DEVICE, protocol=mqtt.MQTTv311)
client.tls_set("ca.crt"{{if .Certificate}}, "device.crt", "device.key"{{end}}, tls_version=ssl.PROTOCOL_TLS_CLIENT)
client.username_pw_set(DEVICE{{if not .Certificate}}, open("token").read().strip(){{end}})
client.on_connect, client.on_message = connected, heard
client.connect(HOST, PORT, 60)
client.loop_start()
sent = 0
while True:
    client.publish(TOPIC + "readings", json.dumps(READING), 1).wait_for_publish()
    sent += 1
    print("sent", json.dumps(READING))
    if most and sent >= most:
        break
    time.sleep({{if .Model.Interval}}{{printf "%.0f" .Model.Interval.Seconds}}{{else}}60{{end}})
time.sleep(1)  # for what is on its way
client.disconnect()
client.loop_stop()
