/* Rows as records of SQLite's own, in leaf pages of a table.

   The format is that of the SQLite documentation, "Database File Format": sections 1.6 (b-tree
   pages) and 2.1 (records). */
#include "cells.h"

static int width_of_whole(int64_t value, int *type) {
    static const int widths[6] = {1, 2, 3, 4, 6, 8};
    for (int place = 0; place < 5; place++) {
        int64_t most = 1LL << (8 * widths[place] - 1);
        if (value < most && value >= -most) {
            *type = place + 1;
            return widths[place];
        }
    }
    *type = 6;
    return 8;
}

static uint8_t *put_big(uint8_t *at, uint64_t value, int width) {
    while (width--) *at++ = (uint8_t)(value >> (8 * width));
    return at;
}

static uint8_t *put_varint(uint8_t *at, uint64_t value) {
    int groups = 1;
    while (groups < 9 && value >> (7 * groups)) groups++;
    while (--groups) *at++ = (uint8_t)(value >> (7 * groups) | 0x80);
    *at++ = (uint8_t)(value & 0x7F);
    return at;
}

/* The argument of a float or decimal says, 8 bits up, whether its column stores a float without a
   fraction as a whole number. */
static int put_cell(const Source *source, const Cell *cell, uint8_t **types, uint8_t **values) {
    int64_t whole = cell->whole;
    int type = 0, width;
    uint64_t bits;
    switch (cell->kind) {
    case 'n': break;
    case 'f':
        if (!(source->argument >> 8) || !is_whole_number(cell->real)) {
            memcpy(&bits, &cell->real, 8);
            type = 7;
            *values = put_big(*values, bits, 8);
            break;
        }
        whole = (int64_t)cell->real;
        /* fall through */
    case 'i':
        width = width_of_whole(whole, &type);
        *values = put_big(*values, (uint64_t)whole, width);
        break;
    default:
        *types = put_varint(*types, 13 + 2 * (uint64_t)cell->length);
        memcpy(*values, cell->text, (size_t)cell->length);
        *values += cell->length;
        return 1;
    }
    *(*types)++ = (uint8_t)type;
    return 1;
}

enum { PAGE = 65536, PAGE_HEAD = 8, LONGEST = PAGE - 35 - 16, MOST_COLUMNS = 120 };

typedef struct {
    Bytes pages, keys;
    /* The page that is being filled: cells from its end down, their places from its head up. */
    uint8_t *page;
    int cells, lowest;
} Leaves;

static void end_page(Leaves *leaves) {
    uint8_t *head = leaves->page;
    head[0] = 0x0D;
    put_big(head + 1, 0, 2);
    put_big(head + 3, (uint64_t)leaves->cells, 2);
    put_big(head + 5, (uint64_t)leaves->lowest & 0xFFFF, 2);
    head[7] = 0;
}

static int begin_page(Leaves *leaves) {
    if (!reserve(&leaves->pages, PAGE)) return 0;
    leaves->page = leaves->pages.at + leaves->pages.length;
    memset(leaves->page, 0, PAGE);
    leaves->pages.length += PAGE;
    leaves->cells = 0;
    leaves->lowest = PAGE;
    return 1;
}

/* One row as a cell of a leaf page; 0 without memory, -1 where it is too long. */
static int put_row(Leaves *leaves, const Table *table, int64_t row, uint8_t *record) {
    uint8_t room[MOST_OF_VALUE], types[MOST_COLUMNS * 5], head[20];
    uint8_t *type = types, *value = record;
    for (int place = 0; place < table->count; place++) {
        Cell cell;
        const Source *source = table->source + place;
        if (!cell_of(source, row, &cell, room)) return -1;
        if (cell.kind == 't' && value - record + cell.length > LONGEST) return -1;
        put_cell(source, &cell, &type, &value);
    }
    int header = (int)(type - types) + 1, size = header + (int)(value - record);
    if (header > 127 || size > LONGEST) return -1;
    uint8_t *end = put_varint(put_varint(head, (uint64_t)size), (uint64_t)row + 1);
    *end++ = (uint8_t)header;
    int taken = (int)(end - head) + size - 1;
    if (leaves->page == NULL || leaves->lowest - taken < PAGE_HEAD + 2 * (leaves->cells + 1)) {
        if (leaves->page != NULL) {
            end_page(leaves);
            if (!reserve(&leaves->keys, 8)) return 0;
            memcpy(leaves->keys.at + leaves->keys.length, &row, 8);
            leaves->keys.length += 8;
        }
        if (!begin_page(leaves)) return 0;
    }
    leaves->lowest -= taken;
    uint8_t *at = leaves->page + leaves->lowest;
    memcpy(at, head, (size_t)(end - head));
    at += end - head;
    memcpy(at, types, (size_t)(type - types));
    memcpy(at + (type - types), record, (size_t)(value - record));
    put_big(leaves->page + PAGE_HEAD + 2 * leaves->cells, (uint64_t)leaves->lowest, 2);
    leaves->cells++;
    return 1;
}

/* Leaf pages with the rows, numbered from 1, and the last row of each page but the last. None where
   a row is too long for a page or there are too many columns. */
PyObject *kernel_sqlite_leaves(PyObject *self, PyObject *args) {
    PyObject *answer = NULL;
    Table table = {0};
    Leaves leaves = {0};
    if (table_of(args, &table)) {
        int done = table.count <= MOST_COLUMNS ? 1 : -1;
        uint8_t *record = malloc(LONGEST + MOST_COLUMNS * MOST_OF_VALUE);
        if (record == NULL) done = 0;
        Py_BEGIN_ALLOW_THREADS
        for (int64_t row = 0; row < table.rows && done == 1; row++)
            done = put_row(&leaves, &table, row, record);
        if (done == 1 && leaves.page != NULL) end_page(&leaves);
        Py_END_ALLOW_THREADS
        free(record);
        answer = done > 0 ? Py_BuildValue("y#y#", leaves.pages.at, (Py_ssize_t)leaves.pages.length,
                                          leaves.keys.at ? (char *)leaves.keys.at : "",
                                          (Py_ssize_t)leaves.keys.length)
                          : undone(done);
    }
    free(leaves.pages.at);
    free(leaves.keys.at);
    let_go(&table);
    return answer;
}
