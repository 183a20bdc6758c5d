// Two paths change places in one step, which R cannot do.
#include <Rcpp.h>
#include <string>

#if defined(__linux__)
#include <fcntl.h>
#include <sys/syscall.h>
#include <unistd.h>
#elif defined(__APPLE__)
#include <cstdio>
#include <sys/stdio.h>
#endif

// True if they did; false where the system or the disk has no such step, and nothing has changed then.
// [[Rcpp::export(rng = false)]]
bool glue_exchange_paths(const std::string& first, const std::string& second) {
#if defined(__linux__) && defined(SYS_renameat2)
  const unsigned exchange = 2;
  return syscall(SYS_renameat2, AT_FDCWD, first.c_str(), AT_FDCWD, second.c_str(), exchange) == 0;
#elif defined(__APPLE__) && defined(RENAME_SWAP)
  return renamex_np(first.c_str(), second.c_str(), RENAME_SWAP) == 0;
#else
  return false;
#endif
}
