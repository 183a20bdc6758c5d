# Puts an entry into one of the package's registers while a test runs; nothing else of the package is touched.
local_entry <- function(register, name, entry, env = parent.frame()) {
  namespace <- asNamespace("carefultwin")
  old <- get(register, envir = namespace)
  change <- function(value) {
    unlockBinding(register, namespace)
    assign(register, value, envir = namespace)
    lockBinding(register, namespace)
  }
  change(c(old, stats::setNames(list(entry), name)))
  withr::defer(change(old), envir = env)
}
