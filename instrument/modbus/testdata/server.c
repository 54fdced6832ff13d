/* A Modbus server made with libmodbus, against which the client is tested: over TCP on a port that it prints, or on a serial line. */
#include <errno.h>
#include <modbus/modbus.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <arpa/inet.h>
#include <sys/socket.h>
#include <unistd.h>

int main(int argc, char **argv) {
    int serial = argc > 2 && strcmp(argv[1], "rtu") == 0;
    modbus_t *ctx = serial ? modbus_new_rtu(argv[2], 115200, 'N', 8, 1) : modbus_new_tcp("127.0.0.1", 0);
    modbus_mapping_t *map = modbus_mapping_new(0, 0, 100, 100);
    uint8_t request[MODBUS_TCP_MAX_ADU_LENGTH];
    if (!ctx || !map) return 1;
    modbus_set_slave(ctx, 7);
    for (int i = 0; i < 100; i++) {
        map->tab_registers[i] = 1000 + i;
        map->tab_input_registers[i] = 2000 + i;
    }
    int listener = -1;
    if (serial) {
        if (modbus_connect(ctx) == -1) return 2;
        /* After a question to another unit it takes what comes next for that unit's answer, but only this long. */
        modbus_set_response_timeout(ctx, 0, 20000);
        printf("ready\n");
    } else {
        struct sockaddr_in at = {.sin_family = AF_INET, .sin_addr.s_addr = htonl(INADDR_LOOPBACK)};
        socklen_t size = sizeof at;
        listener = socket(AF_INET, SOCK_STREAM, 0);
        if (bind(listener, (struct sockaddr *)&at, size) || listen(listener, 1)) return 3;
        getsockname(listener, (struct sockaddr *)&at, &size);
        printf("%d\n", ntohs(at.sin_port));
    }
    fflush(stdout);
    for (;;) {
        if (!serial && modbus_tcp_accept(ctx, &listener) == -1) return 4;
        for (;;) {
            int n = modbus_receive(ctx, request);
            if (n > 0) modbus_reply(ctx, request, n, map);
            else if (n == -1 && !serial) break;
        }
    }
}
