/* Typed columns out of whole records of delimited text, in Arrow's form.

   A record is taken only where all of it is written in the plain way; the numbers of all others
   come back, for the Python side to judge. So what this file understands need not be all there is,
   and what it takes means the same as it does there. */
#include "kernel.h"
#include "values.h"
#ifdef __SSE2__
#include <emmintrin.h>
#endif

#define MOST_MARKERS 16

typedef struct {
    int kind, precision, scale, required, markers;
    const char *marker[MOST_MARKERS];
    Py_ssize_t marker_length[MOST_MARKERS];
    /* Lengths that a word for no value has; the highest bit stands for all longer ones. */
    uint64_t marker_lengths;
    uint8_t *values, *valid;
    int32_t *offsets;
    int64_t nulls;
    Bytes text;
} Column;

typedef struct {
    const uint8_t *data, *limit;
    int delimiter, quote, columns;
    int has_quotes, has_high, has_returns, has_nuls;
    Column *column;
    int64_t rows;
    Bytes odd;
} Parse;

static size_t width_of(int kind, int bits) {
    switch (kind) {
    case INTEGER: return (size_t)bits / 8;
    case DATE: return 4;
    case DECIMAL: return 16;
    default: return 8;
    }
}

static inline int is_marker(const Column *column, const uint8_t *at, size_t length) {
    if (!(column->marker_lengths >> (length < 63 ? length : 63) & 1)) return 0;
    for (int marker = 0; marker < column->markers; marker++)
        if ((size_t)column->marker_length[marker] == length &&
            memcmp(at, column->marker[marker], length) == 0)
            return 1;
    return 0;
}

/* The first delimiter from a place on, or the record's end. */
static inline const uint8_t *next_mark(const Parse *parse, const uint8_t *at, const uint8_t *end) {
#ifdef __SSE2__
    const __m128i wanted = _mm_set1_epi8((char)parse->delimiter);
    while (at + 16 <= parse->limit) {
        __m128i bytes = _mm_loadu_si128((const __m128i *)at);
        int mask = _mm_movemask_epi8(_mm_cmpeq_epi8(bytes, wanted));
        if (mask) {
            at += __builtin_ctz((unsigned)mask);
            return at < end ? at : end;
        }
        at += 16;
        if (at >= end) return end;
    }
#endif
    while (at < end && *at != parse->delimiter) at++;
    return at;
}

static int put_text(const Parse *parse, Column *column, const uint8_t *at, const uint8_t *end,
                    int doubled) {
    if (parse->has_high && !is_utf8(at, end)) return 0;
    uint8_t *into = column->text.at + column->text.length;
    if (!doubled) {
        memcpy(into, at, (size_t)(end - at));
        column->text.length += (size_t)(end - at);
        return 1;
    }
    uint8_t *begin = into;
    while (at < end) {
        *into++ = *at;
        at += *at == parse->quote ? 2 : 1;
    }
    column->text.length += (size_t)(into - begin);
    return 1;
}

static int put_value(const Parse *parse, Column *column, const uint8_t *at, const uint8_t *end) {
    int64_t row = parse->rows, value;
    uint8_t *into = column->values;
    switch (column->kind) {
    case INTEGER:
        if (!integer(at, end, column->precision, &value)) return 0;
        if (column->precision == 64) ((int64_t *)(void *)into)[row] = value;
        else if (column->precision == 32) ((int32_t *)(void *)into)[row] = (int32_t)value;
        else ((int16_t *)(void *)into)[row] = (int16_t)value;
        return 1;
    case FLOAT: return floating(at, end, (double *)(void *)into + row);
    case DATE: return end - at == 10 && date(at, (int32_t *)(void *)into + row);
    case STAMP: return stamp(at, end, (int64_t *)(void *)into + row);
    case TIME: return time_of_day(at, end, (int64_t *)(void *)into + row);
    case DECIMAL: {
        if (!decimal(at, end, column->precision, column->scale, &value)) return 0;
        int64_t *both = (int64_t *)(void *)into + 2 * row;
        both[0] = value;
        both[1] = value < 0 ? -1 : 0;
        return 1;
    }
    default: {
        int word;
        if (!boolean(at, (size_t)(end - at), &word)) return 0;
        if (word) into[row >> 3] |= (uint8_t)(1 << (row & 7));
        else into[row >> 3] &= (uint8_t)~(1 << (row & 7));
        return 1;
    }
    }
}

static int put_null(const Parse *parse, Column *column) {
    if (column->required) return 0;
    int64_t row = parse->rows;
    column->valid[row >> 3] &= (uint8_t)~(1 << (row & 7));
    column->nulls++;
    if (column->kind == TEXT) return 1;
    if (column->kind == BOOLEAN) {
        column->values[row >> 3] &= (uint8_t)~(1 << (row & 7));
        return 1;
    }
    size_t width = width_of(column->kind, column->precision);
    memset(column->values + (size_t)row * width, 0, width);
    return 1;
}

/* One record without its line break; 0 where it is not written in the plain way. */
static int take(Parse *parse, const uint8_t *at, const uint8_t *end) {
    for (int place = 0; place < parse->columns; place++) {
        Column *column = parse->column + place;
        const uint8_t *first = at, *stop;
        if (at < end && *at == parse->quote) {
            int doubled = 0;
            first++;
            for (stop = first;; stop++) {
                stop = memchr(stop, parse->quote, (size_t)(end - stop));
                if (stop == NULL) return 0;
                if (stop + 1 == end || stop[1] != parse->quote) break;
                doubled = 1;
                stop++;
            }
            at = stop + 1;
            if (at < end && *at != parse->delimiter) return 0;
            if (column->kind == TEXT) {
                if (!put_text(parse, column, first, stop, doubled)) return 0;
            } else if (doubled || !put_value(parse, column, first, stop)) {
                return 0;
            }
        } else {
            stop = at = next_mark(parse, at, end);
            if (parse->has_quotes && memchr(first, parse->quote, (size_t)(stop - first))) return 0;
            if (is_marker(column, first, (size_t)(stop - first))) {
                if (!put_null(parse, column)) return 0;
            } else if (column->kind == TEXT) {
                if (!put_text(parse, column, first, stop, 0)) return 0;
            } else if (!put_value(parse, column, first, stop)) {
                return 0;
            }
        }
        if (column->kind == TEXT) column->offsets[parse->rows + 1] = (int32_t)column->text.length;
        if (place + 1 < parse->columns && at++ == end) return 0;
    }
    return at == end;
}

/* Takes back what a record has left behind that was given up. */
static void give_up(Parse *parse) {
    int64_t row = parse->rows;
    for (int place = 0; place < parse->columns; place++) {
        Column *column = parse->column + place;
        if (column->kind == TEXT) column->text.length = (size_t)column->offsets[row];
        if (!bit(column->valid, row)) {
            column->valid[row >> 3] |= (uint8_t)(1 << (row & 7));
            column->nulls--;
        }
    }
}

/* 1 when done, 0 without memory, -1 where too many records are odd. */
static int walk(Parse *parse, const int64_t *starts, const int64_t *ends, int64_t records) {
    int64_t most = 64 + records / 4, odd = 0;
    for (int64_t record = 0; record < records; record++) {
        if (starts[record] < 0 || starts[record] > ends[record] ||
            ends[record] > parse->limit - parse->data)
            return -1;
        const uint8_t *at = parse->data + starts[record], *end = parse->data + ends[record];
        for (int place = 0; place < parse->columns; place++)
            if (parse->column[place].kind == TEXT &&
                !reserve(&parse->column[place].text, (size_t)(end - at)))
                return 0;
        if (end > at && end[-1] == '\n') end--;
        if (end > at && end[-1] == '\r') end--;
        /* Line breaks of other kinds, and bytes that no target can store. */
        int plain = !(parse->has_returns && memchr(at, '\r', (size_t)(end - at))) &&
                    !(parse->has_nuls && memchr(at, 0, (size_t)(end - at)));
        if (plain && take(parse, at, end)) {
            parse->rows++;
            continue;
        }
        if (plain) give_up(parse);
        if (++odd > most) return -1;
        if (!reserve(&parse->odd, sizeof record)) return 0;
        memcpy(parse->odd.at + parse->odd.length, &record, sizeof record);
        parse->odd.length += sizeof record;
    }
    return 1;
}

static int make_column(Column *column, PyObject *told, int64_t records) {
    PyObject *markers;
    if (!PyArg_ParseTuple(told, "iiipO!", &column->kind, &column->precision, &column->scale,
                          &column->required, &PyTuple_Type, &markers))
        return 0;
    column->markers = (int)PyTuple_Size(markers);
    if (column->markers > MOST_MARKERS || column->kind < INTEGER || column->kind > TEXT ||
        (column->kind == DECIMAL && (column->scale < 0 || column->scale > 18))) {
        PyErr_SetString(PyExc_ValueError, "a column that the kernel does not know");
        return 0;
    }
    for (int place = 0; place < column->markers; place++) {
        char *text;
        if (PyBytes_AsStringAndSize(PyTuple_GetItem(markers, place), &text,
                                    &column->marker_length[place]) < 0)
            return 0;
        column->marker[place] = text;
        Py_ssize_t length = column->marker_length[place];
        column->marker_lengths |= 1ULL << (length < 63 ? length : 63);
    }
    size_t rows = (size_t)records;
    column->valid = malloc(rows / 8 + 1);
    if (column->valid != NULL) memset(column->valid, 0xFF, rows / 8 + 1);
    if (column->kind == TEXT) {
        column->offsets = malloc((rows + 1) * sizeof(int32_t));
        if (column->offsets != NULL) column->offsets[0] = 0;
    } else if (column->kind == BOOLEAN) {
        column->values = calloc(rows / 8 + 1, 1);
    } else {
        column->values = malloc(rows * width_of(column->kind, column->precision) + 1);
    }
    if (column->valid == NULL || (column->values == NULL && column->offsets == NULL)) {
        PyErr_NoMemory();
        return 0;
    }
    return 1;
}

/* Its validity or None, its values or offsets, its text or None, and how many are null. */
static PyObject *told_of(const Column *column, int64_t rows) {
    const char *valid = column->nulls ? (const char *)column->valid : NULL;
    Py_ssize_t bits = (Py_ssize_t)(rows + 7) / 8;
    if (column->kind == TEXT)
        return Py_BuildValue("y#y#y#L", valid, bits, (const char *)column->offsets,
                             (Py_ssize_t)((rows + 1) * (int64_t)sizeof(int32_t)),
                             column->text.at ? (const char *)column->text.at : "",
                             (Py_ssize_t)column->text.length, (long long)column->nulls);
    Py_ssize_t size = column->kind == BOOLEAN
                          ? bits
                          : (Py_ssize_t)(rows * (int64_t)width_of(column->kind, column->precision));
    return Py_BuildValue("y#y#OL", valid, bits, (const char *)column->values, size, Py_None,
                         (long long)column->nulls);
}

static PyObject *answer_of(const Parse *parse) {
    PyObject *columns = PyList_New(0);
    for (int place = 0; columns != NULL && place < parse->columns; place++) {
        PyObject *told = told_of(parse->column + place, parse->rows);
        if (told == NULL || PyList_Append(columns, told) < 0) Py_CLEAR(columns);
        Py_XDECREF(told);
    }
    if (columns == NULL) return NULL;
    return Py_BuildValue("LNy#", (long long)parse->rows, columns,
                         parse->odd.at ? (const char *)parse->odd.at : "",
                         (Py_ssize_t)parse->odd.length);
}

static int has(const Py_buffer *data, int byte) {
    return memchr(data->buf, byte, (size_t)data->len) != NULL;
}

static int has_high(const Py_buffer *data) {
    const uint8_t *at = data->buf, *end = at + data->len;
    uint64_t all = 0, word;
    for (; end - at >= 8; at += 8) {
        memcpy(&word, at, 8);
        all |= word;
    }
    for (; at < end; at++) all |= *at;
    return (all & 0x8080808080808080ULL) != 0;
}

PyObject *kernel_parse(PyObject *self, PyObject *args) {
    Py_buffer data, starts, ends;
    PyObject *columns, *answer = NULL;
    Parse parse = {0};
    int made = 0, done = -1;
    if (!PyArg_ParseTuple(args, "y*y*y*iiO!", &data, &starts, &ends, &parse.delimiter,
                          &parse.quote, &PyTuple_Type, &columns))
        return NULL;
    int64_t records = ends.len / (Py_ssize_t)sizeof(int64_t);
    if (starts.len != ends.len || data.len > INT32_MAX) {
        answer = none();
        goto out;
    }
    parse.data = data.buf;
    parse.limit = parse.data + data.len;
    int count = (int)PyTuple_Size(columns);
    parse.column = calloc((size_t)count + 1, sizeof(Column));
    if (parse.column == NULL) {
        PyErr_NoMemory();
        goto out;
    }
    for (; made < count; made++)
        if (!make_column(parse.column + made, PyTuple_GetItem(columns, made), records)) {
            made++;
            goto out;
        }
    parse.columns = count;
    Py_BEGIN_ALLOW_THREADS
    parse.has_quotes = parse.quote >= 0 && has(&data, parse.quote);
    parse.has_returns = has(&data, '\r');
    parse.has_nuls = has(&data, 0);
    parse.has_high = has_high(&data);
    done = walk(&parse, starts.buf, ends.buf, records);
    Py_END_ALLOW_THREADS
    answer = done > 0 ? answer_of(&parse) : undone(done);
out:
    for (int place = 0; place < made; place++) {
        free(parse.column[place].values);
        free(parse.column[place].valid);
        free(parse.column[place].offsets);
        free(parse.column[place].text.at);
    }
    free(parse.column);
    free(parse.odd.at);
    PyBuffer_Release(&data);
    PyBuffer_Release(&starts);
    PyBuffer_Release(&ends);
    return answer;
}
