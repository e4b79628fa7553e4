/* Rows of a table as they lie in an SQLite file, read without SQLite.

   The format is that of the SQLite documentation, "Database File Format": sections 1.6 (b-tree
   pages), 1.6.1 (overflow pages) and 2.1 (records). Nothing in a file is trusted: whatever does not
   fit ends the reading, and SQLite is asked instead. */
#include "cells.h"
#include <unistd.h>

enum { WINDOW = 1 << 20, DEEPEST = 20, MOST_COLUMNS = 2000 };

typedef struct {
    int file, columns, own_number, wanted;
    const int *order;
    uint32_t page, usable;
    int64_t first, last;
    /* Pages that were read together, and the number of the first of them. */
    uint8_t *window;
    int64_t window_at, window_size;
    Bytes payload;
    int64_t rows;
    uint64_t sum;
} Reader;

static const uint8_t *page_at(Reader *reader, uint32_t number, uint8_t *copy) {
    int64_t at = ((int64_t)number - 1) * reader->page;
    if (number == 0) return NULL;
    if (at < reader->window_at || at + reader->page > reader->window_at + reader->window_size) {
        ssize_t got = pread(reader->file, reader->window, WINDOW, at);
        if (got < (ssize_t)reader->page) return NULL;
        reader->window_at = at;
        reader->window_size = got;
    }
    const uint8_t *page = reader->window + (at - reader->window_at);
    return copy ? memcpy(copy, page, reader->page) : page;
}

static uint64_t big(const uint8_t *at, int width) {
    uint64_t value = 0;
    while (width--) value = value << 8 | *at++;
    return value;
}

/* A varint; NULL where it reaches over the end. */
static const uint8_t *varint(const uint8_t *at, const uint8_t *end, uint64_t *value) {
    *value = 0;
    for (int place = 0; place < 9; place++) {
        if (at >= end) return NULL;
        uint8_t byte = *at++;
        if (place == 8) {
            *value = *value << 8 | byte;
            return at;
        }
        *value = *value << 7 | (byte & 0x7F);
        if (byte < 0x80) return at;
    }
    return at;
}

static int read_cell(uint64_t type, const uint8_t **at, const uint8_t *end, Cell *cell) {
    static const int widths[8] = {0, 1, 2, 3, 4, 6, 8, 8};
    if (type >= 12) {
        uint64_t length = (type - 12) / 2;
        if (length > (uint64_t)(end - *at)) return 0;
        cell->kind = type & 1 ? 't' : 'b';
        cell->text = *at;
        cell->length = (int64_t)length;
        *at += length;
        return 1;
    }
    cell->kind = type ? 'i' : 'n';
    if (type == 8 || type == 9) {
        cell->whole = type == 9;
        return 1;
    }
    if (type > 9) return 0;
    int width = widths[type];
    if (width > end - *at) return 0;
    uint64_t bits = big(*at, width);
    *at += width;
    if (type == 7) {
        cell->kind = 'f';
        memcpy(&cell->real, &bits, 8);
    } else if (width) {
        int shift = 64 - 8 * width;
        cell->whole = (int64_t)(bits << shift) >> shift;
    }
    return 1;
}

/* Adds a record to the sum; 0 where it is none that fits. */
static int take(Reader *reader, const uint8_t *at, size_t size, int64_t number) {
    static _Thread_local Cell cells[MOST_COLUMNS];
    const uint8_t *end = at + size;
    uint64_t header, type;
    const uint8_t *types = varint(at, end, &header);
    if (types == NULL || header > size) return 0;
    const uint8_t *values = at + header, *types_end = values;
    int column = 0;
    for (; column < reader->columns && types < types_end; column++) {
        types = varint(types, types_end, &type);
        if (types == NULL || !read_cell(type, &values, end, cells + column)) return 0;
    }
    if (column < reader->columns) return 0;
    if (reader->own_number >= 0 && cells[reader->own_number].kind == 'n') {
        cells[reader->own_number].kind = 'i';
        cells[reader->own_number].whole = number;
    }
    uint32_t crc = 0xFFFFFFFF;
    for (int place = 0; place < reader->wanted; place++)
        crc = kernel_crc_cell(crc, cells + reader->order[place]);
    reader->sum += crc ^ 0xFFFFFFFF;
    reader->rows++;
    return 1;
}

/* A cell's payload put together with what lies on other pages; 0 where the chain is broken. */
static int gather(Reader *reader, const uint8_t *local, uint32_t held, uint64_t size) {
    if (size > 1u << 30) return 0;
    reader->payload.length = 0;
    if (!reserve(&reader->payload, size)) return 0;
    memcpy(reader->payload.at, local, held);
    uint64_t length = held;
    uint32_t next = (uint32_t)big(local + held, 4);
    while (length < size) {
        const uint8_t *page = page_at(reader, next, NULL);
        if (page == NULL) return 0;
        uint64_t more = size - length < reader->usable - 4 ? size - length : reader->usable - 4;
        memcpy(reader->payload.at + length, page + 4, more);
        length += more;
        next = (uint32_t)big(page, 4);
    }
    return 1;
}

static int take_leaf(Reader *reader, const uint8_t *page, const uint8_t *head, int cells) {
    const uint8_t *end = page + reader->usable;
    uint32_t most = reader->usable - 35, least = (reader->usable - 12) * 32 / 255 - 23;
    for (int place = 0; place < cells; place++) {
        if (head + 10 + 2 * place > end) return 0;
        const uint8_t *at = page + big(head + 8 + 2 * place, 2);
        uint64_t size, number;
        if (at >= end || (at = varint(at, end, &size)) == NULL ||
            (at = varint(at, end, &number)) == NULL)
            return 0;
        if ((int64_t)number < reader->first || (int64_t)number > reader->last) continue;
        if (size <= most) {
            if (size > (uint64_t)(end - at) || !take(reader, at, size, (int64_t)number)) return 0;
            continue;
        }
        uint32_t held = least + (uint32_t)((size - least) % (reader->usable - 4));
        if (held > most) held = least;
        if (held + 4 > (uint64_t)(end - at) || !gather(reader, at, held, size) ||
            !take(reader, reader->payload.at, size, (int64_t)number))
            return 0;
    }
    return 1;
}

static int walk(Reader *reader, uint32_t number, int depth) {
    uint8_t *page = malloc(reader->page);
    int fits = 0;
    if (page == NULL || depth > DEEPEST || page_at(reader, number, page) == NULL) goto out;
    const uint8_t *head = page + (number == 1 ? 100 : 0);
    int cells = (int)big(head + 3, 2);
    if (head[0] == 0x0D) {
        fits = take_leaf(reader, page, head, cells);
    } else if (head[0] == 0x05) {
        int64_t before = INT64_MIN;
        for (int place = 0; place < cells; place++) {
            uint64_t key;
            if (head + 14 + 2 * place > page + reader->usable) goto out;
            uint32_t offset = (uint32_t)big(head + 12 + 2 * place, 2);
            if (offset + 5 > reader->usable ||
                varint(page + offset + 4, page + reader->usable, &key) == NULL)
                goto out;
            /* Rows up to the key lie below. */
            if ((int64_t)key >= reader->first && before <= reader->last &&
                !walk(reader, (uint32_t)big(page + offset, 4), depth + 1))
                goto out;
            before = (int64_t)key;
        }
        fits = before > reader->last || walk(reader, (uint32_t)big(head + 8, 4), depth + 1);
    }
out:
    free(page);
    return fits;
}

/* How many rows of these numbers a table has, and the sum of the hashes of the wanted columns.
   `own_number` is the column that is the row's number, or -1. None where something does not fit. */
PyObject *kernel_sqlite_hashes(PyObject *self, PyObject *args) {
    Reader reader = {0};
    unsigned int root, page, usable;
    long long first, last;
    PyObject *order, *answer = NULL;
    if (!PyArg_ParseTuple(args, "iIIIiiO!LL", &reader.file, &root, &page, &usable, &reader.columns,
                          &reader.own_number, &PyTuple_Type, &order, &first, &last))
        return NULL;
    int wanted = (int)PyTuple_Size(order), fits = 0;
    int *places = calloc((size_t)wanted + 1, sizeof(int));
    reader.window = malloc(WINDOW);
    if (places == NULL || reader.window == NULL) {
        PyErr_NoMemory();
        goto out;
    }
    for (int place = 0; place < wanted; place++) {
        places[place] = (int)PyLong_AsLong(PyTuple_GetItem(order, place));
        if (places[place] < 0 || places[place] >= reader.columns) {
            if (!PyErr_Occurred()) PyErr_SetString(PyExc_ValueError, "there is no such column");
            goto out;
        }
    }
    reader.order = places;
    reader.wanted = wanted;
    reader.page = page;
    reader.usable = usable;
    reader.first = first;
    reader.last = last;
    Py_BEGIN_ALLOW_THREADS
    fits = reader.columns <= MOST_COLUMNS && page >= 512 && page <= 65536 && usable >= 480 &&
           usable <= page && walk(&reader, root, 0);
    Py_END_ALLOW_THREADS
    answer = fits ? Py_BuildValue("LK", (long long)reader.rows, (unsigned long long)reader.sum)
                  : none();
out:
    free(places);
    free(reader.window);
    free(reader.payload.at);
    return answer;
}
