/* Speaks for {{.Device}}: sends a reading as often as it is told to.
 *
 * Needs libmosquitto (Debian: libmosquitto-dev).
 *   cc send.c -lmosquitto -o send && ./send [how many readings]
 */
#include <mosquitto.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

#include "ullage_config.h"

static int left;

static void connected(struct mosquitto *m, void *data, int code) {
  (void)data;
  if (code != 0) {
    fprintf(stderr, "not let in: %s\n", mosquitto_connack_string(code));
    exit(1);
  }
  mosquitto_subscribe(m, NULL, ULLAGE_TOPIC_INTENDED, 1);
  mosquitto_publish(m, NULL, ULLAGE_TOPIC_READINGS, (int)strlen(ULLAGE_EXAMPLE), ULLAGE_EXAMPLE, 1, false);
}

/* The service has it on its disk: from now on the device may forget it. */
static void kept(struct mosquitto *m, void *data, int id) {
  (void)data;
  printf("sent %s\n", ULLAGE_EXAMPLE);
  (void)id;
  if (left > 0 && --left == 0) {
    mosquitto_disconnect(m);
    return;
  }
  sleep(ULLAGE_INTERVAL_SECONDS);
  mosquitto_publish(m, NULL, ULLAGE_TOPIC_READINGS, (int)strlen(ULLAGE_EXAMPLE), ULLAGE_EXAMPLE, 1, false);
}

static void heard(struct mosquitto *m, void *data, const struct mosquitto_message *msg) {
  (void)m;
  (void)data;
  printf("%s %.*s\n", msg->topic, msg->payloadlen, (const char *)msg->payload);
}

int main(int argc, char **argv) {
  struct mosquitto *m;
  int rc;
  left = argc > 1 ? atoi(argv[1]) : 0;
  mosquitto_lib_init();
  m = mosquitto_new(ULLAGE_DEVICE, true, NULL);
  if (m == NULL) return 1;
  mosquitto_connect_callback_set(m, connected);
  mosquitto_publish_callback_set(m, kept);
  mosquitto_message_callback_set(m, heard);
  mosquitto_username_pw_set(m, ULLAGE_DEVICE, {{if .Certificate}}NULL{{else}}ULLAGE_TOKEN{{end}});
  rc = mosquitto_tls_set(m, "ca.crt", NULL, {{if .Certificate}}"device.crt", "device.key"{{else}}NULL, NULL{{end}}, NULL);
  if (rc == MOSQ_ERR_SUCCESS) rc = mosquitto_connect(m, ULLAGE_MQTT_HOST, ULLAGE_MQTT_PORT, 60);
  if (rc == MOSQ_ERR_SUCCESS) rc = mosquitto_loop_forever(m, -1, 1);
  if (rc != MOSQ_ERR_SUCCESS) fprintf(stderr, "%s\n", mosquitto_strerror(rc));
  mosquitto_destroy(m);
  mosquitto_lib_cleanup();
  return rc == MOSQ_ERR_SUCCESS ? 0 : 1;
}
