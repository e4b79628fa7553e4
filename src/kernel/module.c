/* The kernel: what is done for each byte and each value of a load, without the interpreter.

   Everything here has a form in Python too, which decides what it means; without a compiler that
   one is used alone. No function keeps anything between two calls. */
#include "kernel.h"

static PyMethodDef methods[] = {
    {"tally", kernel_tally, METH_VARARGS, "Where records end in a block."},
    {"parse", kernel_parse, METH_VARARGS, "Typed columns out of records."},
    {"figures", kernel_figures, METH_VARARGS, "What a digest has of a column."},
    {"postgresql", kernel_postgresql, METH_VARARGS, "Rows in PostgreSQL's binary form."},
    {"postgresql_hashes", kernel_postgresql_hashes, METH_VARARGS, "The sum of row hashes."},
    {"cell_hash", kernel_cell_hash, METH_VARARGS, "The hash of one row."},
    {"cell_hashes", kernel_cell_hashes, METH_VARARGS, "The sum of the hashes of rows."},
    {"value_hashes", kernel_value_hashes, METH_VARARGS, "The sum of row hashes by values."},
    {"sqlite_leaves", kernel_sqlite_leaves, METH_VARARGS, "Rows as pages of an SQLite file."},
    {"sqlite_hashes", kernel_sqlite_hashes, METH_VARARGS, "The hashes of rows in an SQLite file."},
    {"text_hashes", kernel_text_hashes, METH_VARARGS, "The sum of the hashes of rows as text."},
    {"copied", kernel_copied, METH_VARARGS, "What a server sends of a COPY."},
    {"tabbed", kernel_tabbed, METH_VARARGS, "Rows as tabbed text."},
    {NULL, NULL, 0, NULL},
};

static PyModuleDef definition = {
    PyModuleDef_HEAD_INIT, .m_name = "_kernel", .m_size = 0, .m_methods = methods};

PyMODINIT_FUNC PyInit__kernel(void) {
    kernel_begin_crc();
    PyObject *module = PyModule_Create(&definition);
    if (module != NULL && PyModule_AddIntConstant(module, "VERSION", KERNEL_VERSION) < 0)
        Py_CLEAR(module);
    return module;
}
