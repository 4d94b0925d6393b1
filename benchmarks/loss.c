/* The loss scenario of speed.py by hand: Poisson calls, exponential runs, at most LIMIT instances, a cold start for a new one,
   the rest refused; an idle instance goes after the keep-alive, the one released last is taken first. It keeps what Echo
   Tally keeps of it: time at each level of calls and of instances, peaks and counts by the hour, a histogram of waits with 128
   bins an octave, billed milliseconds. Prints: seconds of CPU, calls, refused, cold starts, mean calls in flight, seconds waited in all, checksum. */
#include <math.h>
#include <stdint.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <time.h>

enum { LIMIT = 100, HOURS = 800, BINS = 48 * 128 };
static const int64_t KEEP = 300000000000LL, COLD = 300000000LL, HOUR = 3600000000000LL;

static uint64_t state;
static double uniform(void) {
    uint64_t z = (state += 0x9E3779B97F4A7C15ULL);
    z = (z ^ (z >> 30)) * 0xBF58476D1CE4E5B9ULL;
    z = (z ^ (z >> 27)) * 0x94D049BB133111EBULL;
    return ((double)((z ^ (z >> 31)) >> 11) + 0.5) * 0x1p-53;
}
static int64_t drawn(double mean_ns) { return (int64_t)(-log(uniform()) * mean_ns); }

typedef struct { int64_t at; int what; } Entry; /* what: an instance whose call ends, or -1: the oldest idle one is looked at */
static Entry heap[4 * LIMIT + 8];
static int heap_n;
static void put(int64_t at, int what) {
    int i = heap_n++;
    while (i > 0 && heap[(i - 1) / 2].at > at) { heap[i] = heap[(i - 1) / 2]; i = (i - 1) / 2; }
    heap[i] = (Entry){at, what};
}
static Entry take(void) {
    Entry first = heap[0], last = heap[--heap_n];
    int i = 0;
    for (int c; (c = 2 * i + 1) < heap_n; i = c) {
        if (c + 1 < heap_n && heap[c + 1].at < heap[c].at) c++;
        if (last.at <= heap[c].at) break;
        heap[i] = heap[c];
    }
    heap[i] = last;
    return first;
}

static int64_t held[LIMIT + 1], stood[LIMIT + 1], waits[2][BINS], arrived[HOURS], refused_in[HOURS], peak[HOURS], most[HOURS];
static int64_t calls, count, calls_since, count_since, now, refused, cold, billed, wait_sum;
static void calls_change(int by) {
    held[calls] += now - calls_since;
    calls_since = now;
    calls += by;
    int64_t h = now / HOUR;
    if (calls > peak[h]) peak[h] = calls;
}
static void count_change(int by) {
    stood[count] += now - count_since;
    count_since = now;
    count += by;
    int64_t h = now / HOUR;
    if (count > most[h]) most[h] = count;
}
static void waited(int64_t ns) {
    int b = 0;
    int64_t start = 0;
    if (ns < 256) { b = (int)ns; start = ns; }
    else { int octave = 63 - __builtin_clzll((uint64_t)ns) - 7; b = (octave + 1) * 128 + (int)(ns >> octave) - 128; start = ((ns >> octave) << octave); }
    waits[0][b]++;
    waits[1][b] += ns - start;
    wait_sum += ns;
}

int main(int argc, char **argv) {
    double rate = atof(argv[1]);
    int64_t n = atoll(argv[2]), next, released[LIMIT];
    int idle[LIMIT], idle_n = 0, free_[LIMIT], free_n = LIMIT, timer = 0;
    state = (uint64_t)atoll(argv[3]);
    clock_t began = clock();
    for (int i = 0; i < LIMIT; i++) free_[i] = LIMIT - 1 - i;
    double gap = 1e9 / rate;
    next = drawn(gap);
    for (int64_t left = n; left > 0 || heap_n > 0;) {
        if (heap_n > 0 && (left == 0 || heap[0].at <= next)) {
            Entry e = take();
            now = e.at;
            if (e.what >= 0) {
                calls_change(-1);
                released[e.what] = now;
                idle[idle_n++] = e.what;
                if (!timer) { timer = 1; put(released[idle[0]] + KEEP > now ? released[idle[0]] + KEEP : now, -1); }
            } else {
                timer = 0;
                int gone = 0;
                while (gone < idle_n && released[idle[gone]] + KEEP <= now) { free_[free_n++] = idle[gone++]; count_change(-1); }
                if (gone) { memmove(idle, idle + gone, (size_t)(idle_n - gone) * sizeof idle[0]); idle_n -= gone; }
                if (idle_n && left > 0) { timer = 1; put(released[idle[0]] + KEEP, -1); }
            }
            continue;
        }
        now = next;
        next = now + drawn(gap);
        left--;
        arrived[now / HOUR]++;
        int i, is_cold = 0;
        if (idle_n > 0) i = idle[--idle_n];
        else if (count < LIMIT) { i = free_[--free_n]; is_cold = 1; cold++; count_change(1); }
        else { refused++; refused_in[now / HOUR]++; continue; }
        calls_change(1);
        int64_t wait = is_cold ? COLD : 0, run = drawn(1e9);
        if (run > 30000000000LL) run = 30000000000LL;
        waited(wait);
        billed += (run + 999999) / 1000000;
        put(now + wait + run, i);
    }
    double took = (double)(clock() - began) / CLOCKS_PER_SEC, level = 0;
    int64_t sum = billed;
    for (int k = 0; k <= LIMIT; k++) { level += (double)k * (double)held[k]; sum += held[k] % 97 + stood[k] % 89; }
    for (int h = 0; h < HOURS; h++) sum += arrived[h] + refused_in[h] + peak[h] + most[h];
    for (int b = 0; b < BINS; b++) sum += waits[0][b] % 7 + waits[1][b] % 5;
    printf("%.6f %lld %lld %lld %.6f %.9f %lld\n", took, (long long)n, (long long)refused, (long long)cold,
           level / (double)now, (double)wait_sum / 1e9, (long long)sum);
    return 0;
}
