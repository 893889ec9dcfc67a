/* Fills a mounted card with COUNT small files, 100 a folder, and deletes every second one and every fifth folder. */
#include <fcntl.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

int main(int argc, char **argv) {
    const int count = atoi(argv[2]);
    char path[300], body[700];
    if (argc != 3 || chdir(argv[1]) != 0) return 1;
    for (int n = 0; n < count; ++n) {
        if (n % 100 == 0) {
            snprintf(path, sizeof path, "%04d-series", n / 100);
            if (mkdir(path, 0755) != 0) return 2;
        }
        snprintf(path, sizeof path, "%04d-series/NEST_%06d kittiwake ledge.jpg", n / 100, n);
        memset(body, ' ', sizeof body);
        memcpy(body, "\xFF\xD8\xFF\xE0\0\x10JFIF\0", 11);
        snprintf(body + 20, sizeof body - 20, "%06d", n);
        const int file = open(path, O_WRONLY | O_CREAT, 0644);
        if (file < 0 || write(file, body, sizeof body) != sizeof body || close(file) != 0) return 3;
    }
    sync();
    for (int n = 0; n < count; ++n) {
        if (n % 2 != 0 && (n / 100) % 5 != 0) continue;
        snprintf(path, sizeof path, "%04d-series/NEST_%06d kittiwake ledge.jpg", n / 100, n);
        if (unlink(path) != 0) return 4;
    }
    for (int folder = 0; folder < count / 100; folder += 5) {
        snprintf(path, sizeof path, "%04d-series", folder);
        if (rmdir(path) != 0) return 5;
    }
    return 0;
}
