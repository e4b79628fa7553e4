/* Where records end in a block of delimited text.

   64 bytes at a time as bitmaps. Whether a byte lies inside a quoted field is the parity of the
   quotes up to it, a prefix sum modulo two (Langdale and Lemire 2019, "Parsing Gigabytes of JSON
   per Second"). */
#include "kernel.h"
#ifdef __SSE2__
#include <emmintrin.h>
#endif

static inline uint64_t equal(const uint8_t *at, uint8_t value) {
#ifdef __SSE2__
    const __m128i wanted = _mm_set1_epi8((char)value);
    uint64_t found = 0;
    for (int part = 0; part < 4; part++) {
        __m128i bytes = _mm_loadu_si128((const __m128i *)(at + 16 * part));
        uint64_t mask = (uint32_t)_mm_movemask_epi8(_mm_cmpeq_epi8(bytes, wanted));
        found |= mask << (16 * part);
    }
    return found;
#else
    uint64_t found = 0;
    for (int place = 0; place < 64; place++) found |= (uint64_t)(at[place] == value) << place;
    return found;
#endif
}

static inline uint64_t parity(uint64_t bits) {
    for (int shift = 1; shift < 64; shift *= 2) bits ^= bits << shift;
    return bits;
}

typedef struct {
    int64_t rows, first, last, lines;
    int quoted, blank, stray;
    Bytes ends;
} Tally;

static int follows_mark(const uint8_t *data, int64_t at, const uint8_t *mark, int64_t length) {
    return at >= length && memcmp(data + at - length, mark, (size_t)length) == 0;
}

/* 0 when there is no memory. */
static int scan(const uint8_t *data, int64_t size, int quote, const uint8_t *mark, int64_t length,
                int listed, Tally *tally) {
    uint64_t open = tally->quoted ? ~0ULL : 0, was_newline = 1, was_return = 0;
    int64_t newlines = 0;
    uint8_t last[64];
    for (int64_t base = 0; base < size; base += 64) {
        const uint8_t *at = data + base;
        uint64_t within = ~0ULL;
        if (size - base < 64) {
            memset(last, 0, sizeof last);
            memcpy(last, at, (size_t)(size - base));
            at = last;
            within = (1ULL << (size - base)) - 1;
        }
        uint64_t ends = equal(at, '\n') & within, returns = equal(at, '\r') & within;
        uint64_t before = ends << 1 | was_newline, alone = returns & before;
        if (ends & (before | (alone << 1) | was_return)) tally->blank = 1;
        was_newline = ends >> 63;
        was_return = alone >> 63;
        uint64_t all = ends;
        if (quote >= 0) {
            uint64_t quotes = equal(at, (uint8_t)quote) & within;
            uint64_t inside = parity(quotes) ^ open;
            open = (uint64_t)((int64_t)inside >> 63);
            /* Where a quote opens a field it stands at its beginning, or behind one that closed. */
            for (uint64_t opening = quotes & inside; opening; opening &= opening - 1) {
                int64_t place = base + __builtin_ctzll(opening);
                if (place && data[place - 1] != '\n' && data[place - 1] != quote &&
                    !follows_mark(data, place, mark, length)) {
                    tally->stray = 1;
                    return 1;
                }
            }
            ends &= ~inside;
        }
        if (ends) {
            if (!tally->rows) tally->first = base + __builtin_ctzll(ends) + 1;
            int highest = 63 - __builtin_clzll(ends);
            tally->last = base + highest + 1;
            uint64_t up_to = highest == 63 ? ~0ULL : (1ULL << (highest + 1)) - 1;
            tally->lines = newlines + __builtin_popcountll(all & up_to);
            tally->rows += __builtin_popcountll(ends);
            if (listed) {
                if (!reserve(&tally->ends, 64 * sizeof(int64_t))) return 0;
                int64_t *into = (int64_t *)(void *)(tally->ends.at + tally->ends.length);
                for (; ends; ends &= ends - 1) *into++ = base + __builtin_ctzll(ends) + 1;
                tally->ends.length = (size_t)((uint8_t *)into - tally->ends.at);
            }
        }
        newlines += __builtin_popcountll(all);
    }
    tally->quoted = (int)(open & 1);
    return 1;
}

PyObject *kernel_tally(PyObject *self, PyObject *args) {
    Py_buffer data, mark;
    int quote, quoted, listed, done;
    if (!PyArg_ParseTuple(args, "y*iy*pp", &data, &quote, &mark, &quoted, &listed)) return NULL;
    Tally tally = {.quoted = quoted};
    Py_BEGIN_ALLOW_THREADS
    done = scan(data.buf, data.len, quote, mark.buf, mark.len, listed, &tally);
    Py_END_ALLOW_THREADS
    PyBuffer_Release(&data);
    PyBuffer_Release(&mark);
    PyObject *answer = NULL;
    if (!done) {
        PyErr_NoMemory();
    } else if (tally.stray) {
        answer = none();
    } else {
        answer = Py_BuildValue("LLLOOLy#", (long long)tally.rows, (long long)tally.first,
                               (long long)tally.last, tally.quoted ? Py_True : Py_False,
                               tally.blank ? Py_True : Py_False, (long long)tally.lines,
                               tally.ends.at ? (char *)tally.ends.at : "",
                               (Py_ssize_t)tally.ends.length);
    }
    free(tally.ends.at);
    return answer;
}
