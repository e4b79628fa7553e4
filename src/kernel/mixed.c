/* Hashes of rows by what their values are in memory, for rows that are held against others of the
   same types. */
#include "text.h"

/* So many rows at a time go through all columns. */
#define AT_ONCE 1024
#define VALUE 0x9E3779B97F4A7C15ULL
#define NOTHING 0xD6E8FEB86659FD93ULL

/* Each step can be undone, so that no two values make one of what came before. */
static inline uint64_t mixed(uint64_t hash, uint64_t value, uint64_t by) {
    hash = (hash ^ value) * by;
    return hash ^ hash >> 32;
}

/* The 64-bit finalizer of MurmurHash3 (Appleby). */
static inline uint64_t spread(uint64_t hash) {
    hash = (hash ^ hash >> 33) * 0xFF51AFD7ED558CCDULL;
    hash = (hash ^ hash >> 33) * 0xC4CEB9FE1A85EC53ULL;
    return hash ^ hash >> 33;
}

static inline uint64_t of_text(uint64_t hash, const uint8_t *at, int32_t length) {
    uint64_t word = 0;
    hash = mixed(hash, (uint64_t)length, VALUE);
    if (length >= 8) {
        const uint8_t *last = at + length - 8;
        for (; at < last; at += 8) {
            memcpy(&word, at, 8);
            hash = mixed(hash, word, VALUE);
        }
        /* Some of these bytes may have been seen. */
        memcpy(&word, last, 8);
    } else if (length >= 4) {
        uint32_t first, last;
        memcpy(&first, at, 4);
        memcpy(&last, at + length - 4, 4);
        word = (uint64_t)first << 32 | last;
    } else {
        for (; length > 0; length--) word = word << 8 | *at++;
    }
    return mixed(hash, word, VALUE);
}

static inline uint64_t of_value(const Source *source, int64_t row, uint64_t hash) {
    if (is_null(source, row)) return mixed(hash, 0, NOTHING);
    if (source->kind >= TEXT) {
        int32_t length;
        const uint8_t *text = text_at(source, row, &length);
        return of_text(hash, text, length);
    }
    if (source->kind == DECIMAL) {
        unsigned __int128 wide = (unsigned __int128)wide_at(source, row);
        return mixed(mixed(hash, (uint64_t)wide, VALUE), (uint64_t)(wide >> 64), VALUE);
    }
    uint64_t value = (uint64_t)integer_at(source, row);
    /* Both zeros are one. */
    if (source->kind == FLOAT && value << 1 == 0) value = 0;
    return mixed(hash, value, VALUE);
}

/* The sum over all rows of the hashes of their values, its upper 64 bits and its lower. */
PyObject *kernel_value_hashes(PyObject *self, PyObject *args) {
    PyObject *answer = NULL;
    Table table = {0};
    (void)self;
    if (table_of(args, &table)) {
        unsigned __int128 sum = 0;
        Py_BEGIN_ALLOW_THREADS
        for (int64_t first = 0; first < table.rows; first += AT_ONCE) {
            uint64_t hash[AT_ONCE];
            int64_t count = table.rows - first < AT_ONCE ? table.rows - first : AT_ONCE;
            /* Not 0, which would make nothing of a row without values. */
            for (int64_t row = 0; row < count; row++) hash[row] = VALUE;
            for (int place = 0; place < table.count; place++) {
                /* A copy, so that the compiler knows that nothing changes it. */
                const Source source = table.source[place];
                for (int64_t row = 0; row < count; row++)
                    hash[row] = of_value(&source, first + row, hash[row]);
            }
            for (int64_t row = 0; row < count; row++) sum += spread(hash[row]);
        }
        Py_END_ALLOW_THREADS
        answer = Py_BuildValue("KK", (unsigned long long)(sum >> 64), (unsigned long long)sum);
    }
    let_go(&table);
    return answer;
}
