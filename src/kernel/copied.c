/* What a PostgreSQL server sends of a COPY, by functions of the client library that the driver has
   loaded: a message a record, of which the interpreter would take a microsecond each. */
#include "kernel.h"

typedef int (*Get)(void *connection, char **message, int at_once);
typedef void (*Let)(void *message);

/* Called with the addresses of PQgetCopyData, PQfreemem and of the connection, and how many bytes
   are enough. Answers the messages, how many they are, and what ended them: more than 0 where they
   go on, else as PQgetCopyData says it. */
PyObject *kernel_copied(PyObject *self, PyObject *args) {
    Py_ssize_t get_at, let_at, connection, enough;
    (void)self;
    if (!PyArg_ParseTuple(args, "nnnn", &get_at, &let_at, &connection, &enough)) return NULL;
    Get get = (Get)(intptr_t)get_at;
    Let let = (Let)(intptr_t)let_at;
    Bytes out = {0};
    Py_ssize_t count = 0;
    int size = 1, room = 1;
    Py_BEGIN_ALLOW_THREADS
    while (room && out.length < (size_t)enough) {
        char *message = NULL;
        size = get((void *)(intptr_t)connection, &message, 0);
        if (size <= 0) break;
        room = reserve(&out, (size_t)size);
        if (room) {
            memcpy(out.at + out.length, message, (size_t)size);
            out.length += (size_t)size;
            count++;
        }
        let(message);
    }
    Py_END_ALLOW_THREADS
    PyObject *answer = room ? Py_BuildValue("y#ni", out.at ? (char *)out.at : "",
                                            (Py_ssize_t)out.length, count, size)
                            : PyErr_NoMemory();
    free(out.at);
    return answer;
}
