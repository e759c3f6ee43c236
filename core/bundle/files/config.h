/* {{.Device}}, a {{.Model.Name}} {{.Model.Version}}. It holds secrets: for this device alone. */
#ifndef ULLAGE_CONFIG_H
#define ULLAGE_CONFIG_H

#define ULLAGE_DEVICE {{c .Device}}
#define ULLAGE_MODEL {{c .Model.Name}}
#define ULLAGE_MQTT_HOST {{c .MQTTHost}}
#define ULLAGE_MQTT_PORT {{if .MQTTPort}}{{.MQTTPort}}{{else}}0{{end}}
#define ULLAGE_HTTP_URL {{if .HTTP}}{{c (print "https://" .HTTP "/device/v1")}}{{else}}""{{end}}
#define ULLAGE_TOPIC_READINGS {{c (index .Topics "readings")}}
#define ULLAGE_TOPIC_ABOUT {{c (index .Topics "about")}}
#define ULLAGE_TOPIC_INTENDED {{c (index .Topics "intended")}}
#define ULLAGE_TOPIC_APPLIED {{c (index .Topics "applied")}}
#define ULLAGE_TOPIC_REPLY {{c (index .Topics "reply")}}
#define ULLAGE_TOPIC_PROBLEM {{c (index .Topics "problem")}}
#define ULLAGE_INTERVAL_SECONDS {{if .Model.Interval}}{{printf "%.0f" .Model.Interval.Seconds}}{{else}}60{{end}}
#define ULLAGE_EXAMPLE {{c .Readings}}
#define ULLAGE_CA {{pem .CAText}}
{{if .Certificate}}#define ULLAGE_CERTIFICATE {{pem .Text}}
{{if not .Own}}#define ULLAGE_KEY {{pem .Secret}}
{{end}}{{else}}#define ULLAGE_TOKEN {{c .Token}}
{{end}}
#endif
