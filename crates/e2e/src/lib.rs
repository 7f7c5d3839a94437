//! Nothing here: the tests in `tests/e2e` drive the real service, client and console.
