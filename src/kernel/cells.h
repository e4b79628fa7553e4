/* A value as SQLite has it. */
#ifndef SPLARN_CELLS_H
#define SPLARN_CELLS_H

#include "text.h"

/* A kind is n for null, i, f, t for text and b for bytes. */
typedef struct {
    uint8_t kind;
    int64_t whole, length;
    double real;
    const uint8_t *text;
} Cell;

static inline int is_whole_number(double value) {
    return value > -9223372036854775808.0 && value < 9223372036854775808.0 &&
           value == (double)(int64_t)value;
}

/* A running CRC-32 with one cell more. */
uint32_t kernel_crc_cell(uint32_t crc, const Cell *cell);

/* What a value becomes in SQLite: a decimal the nearest float, moments text. 0 where it has no such
   form. `room` is for text that is made. */
static inline int cell_of(const Source *source, int64_t row, Cell *cell, uint8_t *room) {
    uint8_t *end = NULL;
    int32_t length;
    cell->kind = 'n';
    if (is_null(source, row)) return 1;
    switch (source->kind) {
    case INTEGER:
    case BOOLEAN:
        cell->kind = 'i';
        cell->whole = integer_at(source, row);
        return 1;
    case FLOAT: {
        int64_t bits = integer_at(source, row);
        cell->kind = 'f';
        memcpy(&cell->real, &bits, 8);
        return 1;
    }
    case DECIMAL: {
        double power = 1;
        for (int digit = 0; digit < (source->argument & 0xFF); digit++) power *= 10;
        cell->kind = 'f';
        /* Both are doubles themselves, so that their quotient is the nearest one. */
        cell->real = (double)(int64_t)wide_at(source, row) / power;
        return 1;
    }
    case DATE: end = put_date(room, integer_at(source, row)); break;
    case STAMP: end = put_stamp(room, integer_at(source, row)); break;
    case TIME: {
        int64_t within = integer_at(source, row);
        end = within < 0 || within >= DAY ? NULL : put_clock(room, within);
        break;
    }
    default:
        cell->kind = 't';
        cell->text = text_at(source, row, &length);
        cell->length = length;
        return 1;
    }
    if (end == NULL) return 0;
    cell->kind = 't';
    cell->text = room;
    cell->length = end - room;
    return 1;
}

#endif
