/* Arrow columns as the Python side hands them over. */
#ifndef SPLARN_COLUMNS_H
#define SPLARN_COLUMNS_H

#include "kernel.h"

typedef __int128 Wide;

typedef struct {
    int kind, argument;
    int64_t offset;
    Py_buffer valid, values, text;
} Source;

typedef struct {
    int64_t rows;
    int count;
    Source *source;
} Table;

static inline void let_go(Table *table) {
    for (int place = 0; place < table->count; place++) {
        PyBuffer_Release(&table->source[place].valid);
        PyBuffer_Release(&table->source[place].values);
        PyBuffer_Release(&table->source[place].text);
    }
    free(table->source);
}

static inline size_t width_of(const Source *source) {
    switch (source->kind) {
    case INTEGER: return (size_t)(source->argument & 0xFF) / 8;
    case DATE: return 4;
    case DECIMAL: return 16;
    default: return 8;
    }
}

/* Whether the buffers are as long as the rows ask for. */
static inline int is_whole(const Source *source, int64_t rows) {
    int64_t last = source->offset + rows;
    if (source->valid.buf && source->valid.len < (last + 7) / 8) return 0;
    if (source->kind == BOOLEAN) return source->values.len >= (last + 7) / 8;
    if (source->kind < TEXT) return source->values.len >= last * (int64_t)width_of(source);
    if (source->values.len < (last + 1) * 4) return 0;
    const int32_t *offsets = source->values.buf;
    return offsets[last] == 0 || source->text.len >= offsets[last];
}

static inline int columns_of(PyObject *told, int64_t rows, Table *table) {
    Py_ssize_t count = PyTuple_Size(told);
    table->rows = rows;
    table->source = calloc((size_t)count + 1, sizeof(Source));
    if (table->source == NULL) {
        PyErr_NoMemory();
        return 0;
    }
    for (; table->count < count; table->count++) {
        Source *source = table->source + table->count;
        if (!PyArg_ParseTuple(PyTuple_GetItem(told, table->count), "iiLz*y*z*", &source->kind,
                              &source->argument, &source->offset, &source->valid,
                              &source->values, &source->text))
            return 0;
        if (!is_whole(source, rows)) {
            table->count++;
            PyErr_SetString(PyExc_ValueError, "a column that is shorter than its rows");
            return 0;
        }
    }
    return 1;
}

/* The arguments of every function over columns: how many rows, and the columns. */
static inline int table_of(PyObject *args, Table *table) {
    long long rows;
    PyObject *told;
    return PyArg_ParseTuple(args, "LO!", &rows, &PyTuple_Type, &told) &&
           columns_of(told, rows, table);
}

static inline int is_null(const Source *source, int64_t row) {
    return source->valid.buf != NULL && !bit(source->valid.buf, source->offset + row);
}

static inline int64_t integer_at(const Source *source, int64_t row) {
    int64_t place = source->offset + row;
    switch (source->kind) {
    case BOOLEAN: return bit(source->values.buf, place);
    case DATE: return ((const int32_t *)source->values.buf)[place];
    case INTEGER:
        if ((source->argument & 0xFF) == 32) return ((const int32_t *)source->values.buf)[place];
        if ((source->argument & 0xFF) == 16) return ((const int16_t *)source->values.buf)[place];
        if ((source->argument & 0xFF) == 8) return ((const int8_t *)source->values.buf)[place];
        return ((const int64_t *)source->values.buf)[place];
    default: return ((const int64_t *)source->values.buf)[place];
    }
}

static inline Wide wide_at(const Source *source, int64_t row) {
    Wide value;
    memcpy(&value, (const uint8_t *)source->values.buf + 16 * (source->offset + row), 16);
    return value;
}

static inline const uint8_t *text_at(const Source *source, int64_t row, int32_t *length) {
    const int32_t *offsets = (const int32_t *)source->values.buf + source->offset + row;
    *length = offsets[1] - offsets[0];
    return (const uint8_t *)source->text.buf + offsets[0];
}

/* Room for the groups of four digits of a decimal. */
#define GROUPS 12

/* A decimal's groups of four digits, the lowest first: which is the first that is not zero. `weight`
   is the place of the highest one before the point. */
static inline int groups_of(Wide value, int scale, uint16_t *groups, int *count, int *weight) {
    int behind = (scale + 3) / 4, last = 0;
    unsigned __int128 left = value < 0 ? -(unsigned __int128)value : (unsigned __int128)value;
    for (int pad = behind * 4 - scale; pad; pad--) left *= 10;
    *count = 0;
    while (left >> 64) {
        groups[(*count)++] = (uint16_t)(left % 10000);
        left /= 10000;
    }
    for (uint64_t small = (uint64_t)left; small; small /= 10000)
        groups[(*count)++] = (uint16_t)(small % 10000);
    while (last < *count && groups[last] == 0) last++;
    *weight = *count ? *count - behind - 1 : 0;
    return last;
}

static inline int hex_of(uint8_t byte) {
    if (byte >= '0' && byte <= '9') return byte - '0';
    byte |= 32;
    return byte >= 'a' && byte <= 'f' ? byte - 'a' + 10 : -1;
}

/* The 16 bytes of a UUID, written with or without hyphens; 0 where it is none. */
static inline int uuid_of(const uint8_t *text, int32_t length, uint8_t *bytes) {
    int digits = 0;
    for (int32_t place = 0; place < length; place++) {
        int digit = hex_of(text[place]);
        if (digit < 0) {
            if (text[place] == '-') continue;
            return 0;
        }
        if (digits == 32) return 0;
        if (digits & 1) bytes[digits / 2] = (uint8_t)(bytes[digits / 2] << 4 | digit);
        else bytes[digits / 2] = (uint8_t)digit;
        digits++;
    }
    return digits == 32;
}

#endif
