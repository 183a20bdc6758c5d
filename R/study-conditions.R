# One door per kind of failure. Every condition of ours has the class twin_error or twin_warning behind its own, and
# carries the evidence as fields, so that a caller or a test reads facts instead of text.

abort_kind <- function(kind, message, ..., call, .envir) {
  cli::cli_abort(message, class = c(paste0("twin_error_", kind), "twin_error"), ..., call = call, .envir = .envir)
}

# An error of a verb behind the one that was called bears the latter's name.
in_the_name_of <- function(call, code) {
  tryCatch(code, twin_error = function(e) {
    e$call <- rlang::frame_call(call)[1L]
    rlang::cnd_signal(e)
  })
}

# What the user gave can't be used.
abort_input <- function(message, ..., call = rlang::caller_env(), .envir = parent.frame()) {
  abort_kind("input", message, ..., call = call, .envir = .envir)
}

# Covariates tell the arms apart without error, so that no finite score exists.
abort_separation <- function(message, ..., call = rlang::caller_env(), .envir = parent.frame()) {
  abort_kind("separation", message, ..., call = call, .envir = .envir)
}

abort_convergence <- function(message, ..., call = rlang::caller_env(), .envir = parent.frame()) {
  abort_kind("convergence", message, ..., call = call, .envir = .envir)
}

# The method asked for does not answer the question asked for.
abort_unsupported <- function(message, ..., call = rlang::caller_env(), .envir = parent.frame()) {
  abort_kind("unsupported", message, ..., call = call, .envir = .envir)
}

# A file can't be read or written.
abort_file <- function(message, ..., call = rlang::caller_env(), .envir = parent.frame()) {
  abort_kind("file", message, ..., call = call, .envir = .envir)
}

# The machine has too little memory for what was asked.
abort_memory <- function(message, ..., call = rlang::caller_env(), .envir = parent.frame()) {
  abort_kind("memory", message, ..., call = call, .envir = .envir)
}

# Evaluates expr; where memory runs out, in R or in a kernel, on one thread or several, that is a classed error.
within_memory <- function(expr) {
  withCallingHandlers(expr, error = function(e) {
    spent <- inherits(e, "std::bad_alloc") || grepl("cannot allocate|bad_alloc|memory exhausted", conditionMessage(e))
    if (!spent || inherits(e, "twin_error")) return()
    abort_memory(c("The memory of this machine is not enough for that.", x = "{conditionMessage(e)}.",
                   i = "Use fewer rows or columns, a coarser design, or a machine with more memory."), call = NULL)
  })
}

# Carries as `caution` what it says without its advice, on one line: see study-cautions.R.
warn_kind <- function(kind, message, ..., .envir = parent.frame()) {
  facts <- vapply(message[!names(message) %in% "i"], cli::format_inline, "", .envir = .envir)
  caution <- gsub("\\s+", " ", paste(cli::ansi_strip(facts), collapse = " "))
  cli::cli_warn(message, class = c(paste0("twin_warning_", kind), "twin_warning"), caution = caution, ...,
                .envir = .envir)
}
