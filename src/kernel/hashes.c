/* Figures of columns and of rows, such as engines compute over what they hold. */
#include "text.h"

/* Values that are no null, the sum of what they are as a digest has it (its upper 64 bits and its
   lower), the smallest and the largest. None where that does not fit. */
PyObject *kernel_figures(PyObject *self, PyObject *args) {
    PyObject *answer = NULL;
    Table table = {0};
    if (!table_of(args, &table) || table.count != 1) {
        let_go(&table);
        return PyErr_Occurred() ? NULL : none();
    }
    const Source *source = table.source;
    Wide sum = 0;
    int64_t least = INT64_MAX, most = INT64_MIN, values = 0;
    int fits = 1;
    Py_BEGIN_ALLOW_THREADS
    for (int64_t row = 0; row < table.rows; row++) {
        if (is_null(source, row)) continue;
        values++;
        int64_t value;
        if (source->kind >= TEXT) {
            int32_t length;
            text_at(source, row, &length);
            sum += length;
            continue;
        }
        if (source->kind == DECIMAL) {
            Wide wide = wide_at(source, row);
            value = (int64_t)wide;
            if (value != wide) {
                fits = 0;
                break;
            }
        } else {
            value = integer_at(source, row);
            if (source->kind == STAMP || source->kind == TIME)
                value = value / MICROSECONDS - (value % MICROSECONDS < 0);
        }
        sum += value;
        if (value < least) least = value;
        if (value > most) most = value;
    }
    Py_END_ALLOW_THREADS
    if (fits)
        answer = Py_BuildValue("LLKLL", (long long)values, (long long)(sum >> 64),
                               (unsigned long long)sum, (long long)least, (long long)most);
    else
        answer = none();
    let_go(&table);
    return answer;
}

/* PostgreSQL's hashes (src/common/hashfn.c), after Jenkins 2006, "lookup3.c". */
typedef struct {
    uint32_t a, b, c;
} State;

static inline uint32_t turned(uint32_t value, int by) { return value << by | value >> (32 - by); }

static inline void mix(State *s) {
    s->a -= s->c; s->a ^= turned(s->c, 4); s->c += s->b;
    s->b -= s->a; s->b ^= turned(s->a, 6); s->a += s->c;
    s->c -= s->b; s->c ^= turned(s->b, 8); s->b += s->a;
    s->a -= s->c; s->a ^= turned(s->c, 16); s->c += s->b;
    s->b -= s->a; s->b ^= turned(s->a, 19); s->a += s->c;
    s->c -= s->b; s->c ^= turned(s->b, 4); s->b += s->a;
}

static inline uint64_t finished(State *s) {
    s->c ^= s->b; s->c -= turned(s->b, 14);
    s->a ^= s->c; s->a -= turned(s->c, 11);
    s->b ^= s->a; s->b -= turned(s->a, 25);
    s->c ^= s->b; s->c -= turned(s->b, 16);
    s->a ^= s->c; s->a -= turned(s->c, 4);
    s->b ^= s->a; s->b -= turned(s->a, 14);
    s->c ^= s->b; s->c -= turned(s->b, 24);
    return (uint64_t)s->b << 32 | s->c;
}

static inline State begun(uint32_t length, uint64_t seed) {
    uint32_t all = 0x9e3779b9 + length + 3923095;
    State state = {all, all, all};
    if (seed) {
        state.a += (uint32_t)(seed >> 32);
        state.b += (uint32_t)seed;
        mix(&state);
    }
    return state;
}

static uint64_t hash_bytes(const uint8_t *at, uint32_t length, uint64_t seed) {
    State state = begun(length, seed);
    uint32_t left = length, words[3];
    for (; left >= 12; left -= 12, at += 12) {
        memcpy(words, at, 12);
        state.a += words[0];
        state.b += words[1];
        state.c += words[2];
        mix(&state);
    }
    /* The last bytes; the lowest of c is kept for the length. */
    uint8_t last[12] = {0};
    memcpy(last, at, left < 8 ? left : 8);
    if (left > 8) memcpy(last + 9, at + 8, left - 8);
    memcpy(words, last, 12);
    state.a += words[0];
    state.b += words[1];
    state.c += words[2];
    return finished(&state);
}

static uint64_t hash_word(uint32_t value, uint64_t seed) {
    State state = begun(4, seed);
    state.a += value;
    return finished(&state);
}

static uint64_t hash_long(int64_t value, uint64_t seed) {
    uint32_t low = (uint32_t)value, high = (uint32_t)((uint64_t)value >> 32);
    return hash_word(low ^ (value >= 0 ? high : ~high), seed);
}

static uint64_t hash_numeric(Wide value, int scale, uint64_t seed) {
    uint16_t groups[GROUPS], ordered[GROUPS];
    int count, weight, last = groups_of(value, scale, groups, &count, &weight), length = 0;
    if (!count) return seed - 1;
    while (count > last) ordered[length++] = groups[--count];
    return hash_bytes((uint8_t *)ordered, (uint32_t)length * 2, seed) ^ (uint64_t)(int64_t)weight;
}

/* A column's argument: its scale or the width of the server's column, and 16 bits up its seed. */
static uint64_t hash_value(const Source *source, int64_t row) {
    uint64_t seed = (uint64_t)(source->argument >> 16);
    int32_t length;
    const uint8_t *text;
    switch (source->kind) {
    case INTEGER:
        if ((source->argument >> 8 & 0xFF) == 64) return hash_long(integer_at(source, row), seed);
        return hash_word((uint32_t)integer_at(source, row), seed);
    case FLOAT: {
        int64_t bits = integer_at(source, row);
        /* Both zeros are one. */
        if (((uint64_t)bits << 1) == 0) return seed;
        return hash_bytes((uint8_t *)&bits, 8, seed);
    }
    case BOOLEAN: return hash_word((uint32_t)integer_at(source, row), seed);
    case DATE: return hash_word((uint32_t)(integer_at(source, row) - 10957), seed);
    case STAMP: return hash_long(integer_at(source, row) - 10957 * DAY, seed);
    case TIME: return hash_long(integer_at(source, row), seed);
    case DECIMAL: {
        Wide value = wide_at(source, row);
        /* The server's hash leaves the sign out, so that the seed tells of it. */
        if (value < 0) seed += 1 << 14;
        return hash_numeric(value, source->argument & 0xFF, seed);
    }
    case UUID: {
        uint8_t bytes[16];
        text = text_at(source, row, &length);
        return uuid_of(text, length, bytes) ? hash_bytes(bytes, 16, seed) : 0;
    }
    default:
        text = text_at(source, row, &length);
        return hash_bytes(text, (uint32_t)length, seed);
    }
}

static PyObject *told_sum(Wide sum) {
    return Py_BuildValue("LK", (long long)(sum >> 64), (unsigned long long)sum);
}

/* The sum over all rows of what the hashes of their values are, put together by exclusive or. */
PyObject *kernel_postgresql_hashes(PyObject *self, PyObject *args) {
    PyObject *answer = NULL;
    Table table = {0};
    if (table_of(args, &table)) {
        Wide sum = 0;
        Py_BEGIN_ALLOW_THREADS
        for (int64_t row = 0; row < table.rows; row++) {
            uint64_t hash = 0;
            for (int place = 0; place < table.count; place++)
                if (!is_null(table.source + place, row))
                    hash ^= hash_value(table.source + place, row);
            sum += (int64_t)hash;
        }
        Py_END_ALLOW_THREADS
        answer = told_sum(sum);
    }
    let_go(&table);
    return answer;
}
