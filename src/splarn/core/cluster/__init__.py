"""Work on other machines: a pool whose workers are those of a Dask cluster."""
