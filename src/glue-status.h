// How a fit ended, in words. Include after a kernel.
#pragma once

inline const char* status_word(twin::FitStatus status, const char* separated) {
  return status == twin::FitStatus::converged   ? "converged"
         : status == twin::FitStatus::separated ? separated
                                                : "not_converged";
}
