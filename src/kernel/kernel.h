/* What the parts of the kernel share. */
#ifndef SPLARN_KERNEL_H
#define SPLARN_KERNEL_H

#define PY_SSIZE_T_CLEAN
#define Py_LIMITED_API 0x030B0000
#include <Python.h>
#include <stddef.h>
#include <stdint.h>
#include <stdlib.h>
#include <string.h>

/* Raised when the Python side needs what an older build does not have. */
#define KERNEL_VERSION 2

/* Kinds of columns; the Python side has the same numbers. */
enum kind {
    INTEGER = 0, FLOAT = 1, BOOLEAN = 2, DATE = 3, STAMP = 4, TIME = 5, DECIMAL = 6, TEXT = 7,
    UUID = 8, PLAIN = 9
};

#define MICROSECONDS 1000000LL
#define DAY (86400 * MICROSECONDS)
/* Days from 1 January of year 1 to 1970, and from there to the end of year 9999. */
#define FIRST_DAY (-719162)
#define BEHIND 2932897

/* Bytes that grow. */
typedef struct {
    uint8_t *at;
    size_t length, room;
} Bytes;

/* Makes room for so many bytes more; 0 when there is no memory. */
static inline int reserve(Bytes *bytes, size_t more) {
    if (bytes->length + more <= bytes->room) return 1;
    size_t room = bytes->room ? bytes->room : 4096;
    while (room < bytes->length + more) room *= 2;
    uint8_t *at = realloc(bytes->at, room);
    if (at == NULL) return 0;
    bytes->at = at;
    bytes->room = room;
    return 1;
}

static inline int bit(const uint8_t *bits, int64_t place) {
    return (bits[place >> 3] >> (place & 7)) & 1;
}

/* Days since 1970 of a date (Hinnant, "chrono-Compatible Low-Level Date Algorithms"). */
static inline int32_t days_of(int year, int month, int day) {
    year -= month <= 2;
    int era = year / 400, of_era = year % 400;
    int of_year = (153 * (month + (month > 2 ? -3 : 9)) + 2) / 5 + day - 1;
    return era * 146097 + of_era * 365 + of_era / 4 - of_era / 100 + of_year - 719468;
}

static inline PyObject *none(void) { return Py_BuildValue(""); }

/* The answer of work that was not done: for want of memory (0), or since it is no work for us. */
static inline PyObject *undone(int done) { return done ? none() : PyErr_NoMemory(); }

PyObject *kernel_tally(PyObject *self, PyObject *args);
PyObject *kernel_parse(PyObject *self, PyObject *args);
PyObject *kernel_figures(PyObject *self, PyObject *args);
PyObject *kernel_postgresql(PyObject *self, PyObject *args);
PyObject *kernel_postgresql_hashes(PyObject *self, PyObject *args);
void kernel_begin_crc(void);
PyObject *kernel_cell_hash(PyObject *self, PyObject *cells);
PyObject *kernel_cell_hashes(PyObject *self, PyObject *args);
PyObject *kernel_sqlite_leaves(PyObject *self, PyObject *args);
PyObject *kernel_sqlite_hashes(PyObject *self, PyObject *args);
PyObject *kernel_text_hashes(PyObject *self, PyObject *args);
PyObject *kernel_tabbed(PyObject *self, PyObject *args);
PyObject *kernel_copied(PyObject *self, PyObject *args);
PyObject *kernel_value_hashes(PyObject *self, PyObject *args);

#endif
