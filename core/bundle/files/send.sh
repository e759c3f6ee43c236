#!/bin/sh
# Sends a reading of {{.Device}} over MQTT, and one over HTTP, both encrypted.
set -eu
cd "$(dirname "$0")"
reading={{sh .Readings}}
{{if .MQTT}}
mosquitto_pub -h {{sh .MQTTHost}} -p {{.MQTTPort}} --cafile ca.crt{{if .Certificate}} --cert device.crt --key device.key{{end}} \
  -i {{sh .Device}} -u {{sh .Device}}{{if not .Certificate}} -P "$(cat token)"{{end}} -q 1 \
  -t {{sh (index .Topics "readings")}} -m "$reading"
echo "sent over MQTT"
{{end}}{{if .HTTP}}
{{if not .Certificate}}# The token comes from a file: what stands in a command can be read by others here.
{ printf 'header = "Authorization: Bearer '; tr -d '\n' <token; printf '"\n'; } |
  curl -sS --fail-with-body --config - --cacert ca.crt \
{{else}}curl -sS --fail-with-body --cacert ca.crt --cert device.crt --key device.key \
{{end}}  -H 'Content-Type: application/json' -d "$reading" {{sh (print "https://" .HTTP "/device/v1/readings")}}
echo
echo "sent over HTTP"
{{end}}
