/* The bare loops that the engine is measured against.
 *
 *   loops steps COUNT INTERVAL_NS      wake at absolute times, write a record, print each lateness in ns
 *   loops keys NODE                    grab a node, and write its keys to a virtual keyboard
 *   loops mouse NODE                   grab a node, and write all it sends to a virtual mouse, as it came
 */
#include <fcntl.h>
#include <linux/input.h>
#include <linux/uinput.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/ioctl.h>
#include <time.h>
#include <unistd.h>

static long long now_ns(void)
{
    struct timespec t;
    clock_gettime(CLOCK_MONOTONIC, &t);
    return t.tv_sec * 1000000000LL + t.tv_nsec;
}

static int steps(long count, long long interval)
{
    long long *late = malloc(sizeof *late * count), start = now_ns() + 10000000;
    struct input_event record[2];
    int null = open("/dev/null", O_WRONLY);
    memset(record, 0, sizeof record);
    for (long i = 0; i < count; i++) {
        long long due = start + i * interval;
        struct timespec t = {due / 1000000000LL, due % 1000000000LL};
        clock_nanosleep(CLOCK_MONOTONIC, TIMER_ABSTIME, &t, NULL);
        if (write(null, record, sizeof record) < 0)
            return 1;
        late[i] = now_ns() - due;
    }
    for (long i = 0; i < count; i++)
        printf("%lld\n", late[i]);
    return 0;
}

/* Opens a device for this program alone, and the maker of virtual ones; 0 if that fails. */
static int take(const char *node, int *in, int *out)
{
    *in = open(node, O_RDONLY);
    *out = open("/dev/uinput", O_WRONLY);
    return *in >= 0 && *out >= 0 && ioctl(*in, EVIOCGRAB, 1) >= 0;
}

/* Makes the virtual device whose events are set, and says so; 0 if that fails. */
static int begin(int out, const char *name)
{
    struct uinput_setup setup = {.id = {.bustype = BUS_VIRTUAL}};
    snprintf(setup.name, sizeof setup.name, "%s", name);
    ioctl(out, UI_DEV_SETUP, &setup);
    if (ioctl(out, UI_DEV_CREATE) < 0)
        return 0;
    puts("ready");
    fflush(stdout);
    return 1;
}

static int keys(const char *node)
{
    struct input_event events[64];
    int in, out;
    if (!take(node, &in, &out))
        return 1;
    ioctl(out, UI_SET_EVBIT, EV_KEY);
    for (int code = 1; code < 248; code++)
        ioctl(out, UI_SET_KEYBIT, code);
    if (!begin(out, "Bare loop"))
        return 1;
    for (;;) {
        ssize_t size = read(in, events, sizeof events);
        if (size <= 0)
            return 0;
        for (size_t i = 0; i < size / sizeof *events; i++)
            if (events[i].type != EV_MSC && write(out, &events[i], sizeof *events) < 0)
                return 1;
    }
}

static int mouse(const char *node)
{
    struct input_event events[64];
    int in, out;
    if (!take(node, &in, &out))
        return 1;
    ioctl(out, UI_SET_EVBIT, EV_KEY);
    for (int code = BTN_LEFT; code <= BTN_TASK; code++)
        ioctl(out, UI_SET_KEYBIT, code);
    ioctl(out, UI_SET_EVBIT, EV_REL);
    for (int code = REL_X; code <= REL_HWHEEL_HI_RES; code++)
        ioctl(out, UI_SET_RELBIT, code);
    if (!begin(out, "Bare mouse loop"))
        return 1;
    for (;;) {
        ssize_t size = read(in, events, sizeof events);
        if (size <= 0 || write(out, events, size) < 0)
            return 0;
    }
}

int main(int count, char **words)
{
    if (count == 4 && !strcmp(words[1], "steps"))
        return steps(atol(words[2]), atoll(words[3]));
    if (count == 3 && !strcmp(words[1], "keys"))
        return keys(words[2]);
    if (count == 3 && !strcmp(words[1], "mouse"))
        return mouse(words[2]);
    return 2;
}
