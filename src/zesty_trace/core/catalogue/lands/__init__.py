"""Land patterns: calculated for surface parts (IPC-7351B), from leads for those with holes, or the user's own."""
