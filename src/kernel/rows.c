/* Arrow columns as the rows that engines take: PostgreSQL's binary COPY, and tabbed text. */
#include "text.h"

static inline uint8_t *put16(uint8_t *at, uint16_t value) {
    value = __builtin_bswap16(value);
    memcpy(at, &value, 2);
    return at + 2;
}

static inline uint8_t *put32(uint8_t *at, uint32_t value) {
    value = __builtin_bswap32(value);
    memcpy(at, &value, 4);
    return at + 4;
}

static inline uint8_t *put64(uint8_t *at, uint64_t value) {
    value = __builtin_bswap64(value);
    memcpy(at, &value, 8);
    return at + 8;
}

/* A decimal as groups of four digits (src/backend/utils/adt/numeric.c of PostgreSQL). */
static uint8_t *put_numeric(uint8_t *at, Wide value, int scale) {
    uint16_t groups[GROUPS];
    int count, weight, last = groups_of(value, scale, groups, &count, &weight);
    at = put32(at, (uint32_t)(8 + 2 * (count - last)));
    at = put16(at, (uint16_t)(count - last));
    at = put16(at, (uint16_t)weight);
    at = put16(at, value < 0 ? 0x4000 : 0);
    at = put16(at, (uint16_t)scale);
    while (count > last) at = put16(at, groups[--count]);
    return at;
}

/* One value with its length before it; NULL where the column cannot hold it. The upper bits of an
   integer's argument are the width of the column. */
static uint8_t *put_binary(uint8_t *at, const Source *source, int64_t row) {
    int64_t value;
    int32_t length;
    const uint8_t *text;
    switch (source->kind) {
    case INTEGER: {
        int bits = source->argument >> 8;
        value = integer_at(source, row);
        if (bits == 64) return put64(put32(at, 8), (uint64_t)value);
        int64_t most = (1LL << (bits - 1)) - 1;
        if (value > most || value < -most - 1) return NULL;
        return bits == 32 ? put32(put32(at, 4), (uint32_t)value)
                          : put16(put32(at, 2), (uint16_t)value);
    }
    case FLOAT: return put64(put32(at, 8), (uint64_t)integer_at(source, row));
    case BOOLEAN:
        at = put32(at, 1);
        *at = (uint8_t)integer_at(source, row);
        return at + 1;
    /* The server counts from the year 2000. */
    case DATE: return put32(put32(at, 4), (uint32_t)(integer_at(source, row) - 10957));
    case STAMP: return put64(put32(at, 8), (uint64_t)(integer_at(source, row) - 10957 * DAY));
    case TIME: return put64(put32(at, 8), (uint64_t)integer_at(source, row));
    case DECIMAL: return put_numeric(at, wide_at(source, row), source->argument);
    case UUID:
        text = text_at(source, row, &length);
        return uuid_of(text, length, at + 4) ? put32(at, 16) + 16 : NULL;
    default:
        text = text_at(source, row, &length);
        at = put32(at, (uint32_t)length);
        memcpy(at, text, (size_t)length);
        return at + length;
    }
}

static uint8_t *put_escaped(uint8_t *at, const uint8_t *text, int32_t length) {
    for (int32_t place = 0; place < length; place++) {
        uint8_t byte = text[place];
        switch (byte) {
        case '\\': break;
        case '\n': byte = 'n'; break;
        case '\r': byte = 'r'; break;
        case '\t': byte = 't'; break;
        default: *at++ = byte; continue;
        }
        *at++ = '\\';
        *at++ = byte;
    }
    return at;
}

static uint8_t *put_tabbed(uint8_t *at, const Source *source, int64_t row) {
    int32_t length;
    const uint8_t *text;
    int64_t value;
    switch (source->kind) {
    case INTEGER: return put_decimal(at, integer_at(source, row), 0);
    /* The argument holds the letters for true and false. */
    case BOOLEAN:
        *at = (uint8_t)(integer_at(source, row) ? source->argument & 0xFF : source->argument >> 8);
        return at + 1;
    case DATE: return put_date(at, integer_at(source, row));
    case STAMP: return put_stamp(at, integer_at(source, row));
    case TIME:
        value = integer_at(source, row);
        return value < 0 || value >= DAY ? NULL : put_clock(at, value);
    case DECIMAL: return put_decimal(at, wide_at(source, row), source->argument);
    case TEXT:
        text = text_at(source, row, &length);
        return put_escaped(at, text, length);
    default:
        text = text_at(source, row, &length);
        memcpy(at, text, (size_t)length);
        return at + length;
    }
}

static size_t text_bytes(const Table *table, int64_t first, int64_t last) {
    size_t bytes = 0;
    for (int place = 0; place < table->count; place++) {
        const Source *source = table->source + place;
        if (source->kind < TEXT) continue;
        const int32_t *offsets = (const int32_t *)source->values.buf + source->offset;
        bytes += (size_t)(offsets[last] - offsets[first]);
    }
    return bytes;
}

/* 1 when done, 0 without memory, -1 where a value has no such form. */
static int write_rows(const Table *table, Bytes *out, int binary) {
    enum { AT_ONCE = 256 };
    for (int64_t row = 0; row < table->rows; row++) {
        if (row % AT_ONCE == 0) {
            int64_t last = row + AT_ONCE < table->rows ? row + AT_ONCE : table->rows;
            size_t each = (size_t)table->count * MOST_OF_VALUE + 2;
            if (!reserve(out, (size_t)(last - row) * each + 2 * text_bytes(table, row, last)))
                return 0;
        }
        uint8_t *at = out->at + out->length;
        if (binary) at = put16(at, (uint16_t)table->count);
        for (int place = 0; place < table->count; place++) {
            const Source *source = table->source + place;
            if (!binary && place) *at++ = '\t';
            if (is_null(source, row)) {
                if (binary) {
                    at = put32(at, 0xFFFFFFFF);
                } else {
                    *at++ = '\\';
                    *at++ = 'N';
                }
                continue;
            }
            at = binary ? put_binary(at, source, row) : put_tabbed(at, source, row);
            if (at == NULL) return -1;
        }
        if (!binary) *at++ = '\n';
        out->length = (size_t)(at - out->at);
    }
    return 1;
}

static PyObject *encode(PyObject *args, int binary) {
    PyObject *answer = NULL;
    Table table = {0};
    Bytes out = {0};
    if (table_of(args, &table)) {
        int done;
        Py_BEGIN_ALLOW_THREADS
        done = write_rows(&table, &out, binary);
        Py_END_ALLOW_THREADS
        answer = done > 0 ? PyBytes_FromStringAndSize((char *)out.at, (Py_ssize_t)out.length)
                          : undone(done);
    }
    free(out.at);
    let_go(&table);
    return answer;
}

PyObject *kernel_postgresql(PyObject *self, PyObject *args) { return encode(args, 1); }

PyObject *kernel_tabbed(PyObject *self, PyObject *args) { return encode(args, 0); }
