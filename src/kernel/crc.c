/* Hashes of rows as CRC-32: over the bytes of their cells as SQLite has them, or over their text as
   MariaDB writes it. */
#include "cells.h"

static uint32_t crc_tables[8][256];

/* Slicing by eight (Kounavis and Berry 2005, "A Systematic Approach to Building High Performance,
   Software-based, CRC Generators"). */
void kernel_begin_crc(void) {
    for (uint32_t byte = 0; byte < 256; byte++) {
        uint32_t crc = byte;
        for (int bits = 0; bits < 8; bits++) crc = crc & 1 ? crc >> 1 ^ 0xEDB88320u : crc >> 1;
        crc_tables[0][byte] = crc;
    }
    for (int slice = 1; slice < 8; slice++)
        for (int byte = 0; byte < 256; byte++) {
            uint32_t before = crc_tables[slice - 1][byte];
            crc_tables[slice][byte] = before >> 8 ^ crc_tables[0][before & 0xFF];
        }
}

static uint32_t crc_of(uint32_t crc, const uint8_t *at, size_t length) {
    for (; length >= 8; length -= 8, at += 8) {
        uint32_t low, high;
        memcpy(&low, at, 4);
        memcpy(&high, at + 4, 4);
        low ^= crc;
        crc = crc_tables[7][low & 0xFF] ^ crc_tables[6][low >> 8 & 0xFF] ^
              crc_tables[5][low >> 16 & 0xFF] ^ crc_tables[4][low >> 24] ^
              crc_tables[3][high & 0xFF] ^ crc_tables[2][high >> 8 & 0xFF] ^
              crc_tables[1][high >> 16 & 0xFF] ^ crc_tables[0][high >> 24];
    }
    while (length--) crc = crc >> 8 ^ crc_tables[0][(crc ^ *at++) & 0xFF];
    return crc;
}

/* A cell is a letter for its kind and its bytes: n, i and a number, f and a float, t or b and a
   length and what it holds. A float without a fraction is a whole number, as SQLite may store it. */
static uint32_t crc_number(uint32_t crc, uint8_t letter, uint64_t value) {
    uint8_t cell[9] = {letter};
    memcpy(cell + 1, &value, 8);
    return crc_of(crc, cell, 9);
}

uint32_t kernel_crc_cell(uint32_t crc, const Cell *cell) {
    uint64_t bits;
    switch (cell->kind) {
    case 'n': return crc_of(crc, (const uint8_t *)"n", 1);
    case 'i': return crc_number(crc, 'i', (uint64_t)cell->whole);
    case 'f':
        if (is_whole_number(cell->real)) return crc_number(crc, 'i', (uint64_t)(int64_t)cell->real);
        memcpy(&bits, &cell->real, 8);
        return crc_number(crc, 'f', bits);
    default:
        return crc_of(crc_number(crc, cell->kind, (uint64_t)cell->length), cell->text,
                      (size_t)cell->length);
    }
}

/* The sum of the hashes of rows; None where a value has no form there. */
PyObject *kernel_cell_hashes(PyObject *self, PyObject *args) {
    PyObject *answer = NULL;
    Table table = {0};
    if (table_of(args, &table)) {
        uint64_t sum = 0;
        int fits = 1;
        Py_BEGIN_ALLOW_THREADS
        for (int64_t row = 0; row < table.rows && fits; row++) {
            uint32_t crc = 0xFFFFFFFF;
            Cell cell;
            uint8_t room[MOST_OF_VALUE];
            for (int place = 0; place < table.count && fits; place++) {
                fits = cell_of(table.source + place, row, &cell, room);
                crc = kernel_crc_cell(crc, &cell);
            }
            sum += crc ^ 0xFFFFFFFF;
        }
        Py_END_ALLOW_THREADS
        answer = fits ? PyLong_FromUnsignedLongLong(sum) : none();
    }
    let_go(&table);
    return answer;
}

static int cell_of_object(PyObject *value, Cell *cell) {
    char *bytes;
    Py_ssize_t length;
    cell->kind = 'n';
    if (PyLong_Check(value)) {
        cell->kind = 'i';
        cell->whole = PyLong_AsLongLong(value);
        if (cell->whole == -1 && PyErr_Occurred()) return 0;
    } else if (PyFloat_Check(value)) {
        cell->kind = 'f';
        cell->real = PyFloat_AsDouble(value);
    } else if (PyUnicode_Check(value)) {
        cell->kind = 't';
        cell->text = (const uint8_t *)PyUnicode_AsUTF8AndSize(value, &length);
        if (cell->text == NULL) return 0;
        cell->length = length;
    } else if (value != Py_None) {
        cell->kind = 'b';
        if (PyBytes_AsStringAndSize(value, &bytes, &length) < 0) return 0;
        cell->text = (const uint8_t *)bytes;
        cell->length = length;
    }
    return 1;
}

/* The hash of one row, its cells as the interpreter has them. */
PyObject *kernel_cell_hash(PyObject *self, PyObject *cells) {
    uint32_t crc = 0xFFFFFFFF;
    Py_ssize_t count = PyTuple_Size(cells);
    for (Py_ssize_t place = 0; place < count; place++) {
        Cell cell;
        if (!cell_of_object(PyTuple_GetItem(cells, place), &cell)) return NULL;
        crc = kernel_crc_cell(crc, &cell);
    }
    return PyLong_FromUnsignedLong(crc ^ 0xFFFFFFFF);
}

/* A value as MariaDB writes it; NULL where it has no such form. The argument of moments is how many
   digits of a fraction the column has, that of decimals their scale and, 8 bits up, the column's. */
static uint8_t *put_exactly(uint8_t *at, const Source *source, int64_t row) {
    int64_t value = source->kind == DECIMAL ? 0 : integer_at(source, row);
    switch (source->kind) {
    case INTEGER:
    case BOOLEAN: return put_decimal(at, value, 0);
    case DATE: return put_date(at, value);
    case DECIMAL: {
        int scale = source->argument & 0xFF, more = (source->argument >> 8) - scale;
        Wide wide = wide_at(source, row);
        for (; more > 0; more--) wide *= 10;
        return more < 0 ? NULL : put_decimal(at, wide, source->argument >> 8);
    }
    default: {
        int64_t fraction = (value % MICROSECONDS + MICROSECONDS) % MICROSECONDS, finer = 1;
        for (int digit = source->argument; digit < 6; digit++) finer *= 10;
        if (fraction % finer) return NULL;
        if (source->kind == TIME && (value < 0 || value >= DAY)) return NULL;
        at = source->kind == TIME ? put_clock(at, value - fraction) : put_stamp(at, value - fraction);
        if (at == NULL || !source->argument) return at;
        *at++ = '.';
        return put_digits(at, (unsigned __int128)(fraction / finer), source->argument);
    }
    }
}

/* The sum of the hashes of rows, their values as text with a byte between that no UTF-8 has, and
   another one for null. None where a value has no such form. */
PyObject *kernel_text_hashes(PyObject *self, PyObject *args) {
    PyObject *answer = NULL;
    Table table = {0};
    if (table_of(args, &table)) {
        static const uint8_t between[1] = {0xFF}, null[1] = {0xFE};
        uint64_t sum = 0;
        int fits = 1;
        Py_BEGIN_ALLOW_THREADS
        for (int64_t row = 0; row < table.rows && fits; row++) {
            uint32_t crc = 0xFFFFFFFF;
            for (int place = 0; place < table.count && fits; place++) {
                const Source *source = table.source + place;
                uint8_t room[MOST_OF_VALUE];
                int32_t length;
                if (place) crc = crc_of(crc, between, 1);
                if (is_null(source, row)) {
                    crc = crc_of(crc, null, 1);
                } else if (source->kind == TEXT) {
                    const uint8_t *text = text_at(source, row, &length);
                    crc = crc_of(crc, text, (size_t)length);
                } else {
                    uint8_t *end = put_exactly(room, source, row);
                    fits = end != NULL;
                    if (fits) crc = crc_of(crc, room, (size_t)(end - room));
                }
            }
            sum += crc ^ 0xFFFFFFFF;
        }
        Py_END_ALLOW_THREADS
        answer = fits ? PyLong_FromUnsignedLongLong(sum) : none();
    }
    let_go(&table);
    return answer;
}
