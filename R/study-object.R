# What a study is made and changed by.

# The only door. `fields` as assembled in frame_study(); z, s, cluster, stratum and the columns have one entry per
# entry of `rows`. Of several arms, arms: units of each by name, the reference first; of parts of them, outside: units
# of other arms, with sampling weight 0; family: the hash of the arms' study. imputed: of one of several completed data
# sets, see mark_imputed(). matrices: see study_matrix().
new_study <- function(fields, matrices = new_matrix_cache()) {
  stopifnot(is.integer(fields$z), length(fields$z) == length(fields$rows), is.list(fields$columns))
  fields$hash <- rlang::hash(fields[setdiff(names(fields), c("formula", "by_graph", "graph"))])
  fields[c("arms", "outside", "family", "imputed")] <- list(NULL)
  fields$matrices <- matrices
  fields$logbook <- new_logbook()
  study <- structure(fields, class = "twin_study")
  log_step(study, "frame", paste0(fields$roles$treatment, ", ", fields$estimand),
           counts = sprintf("%d treated, %d control", sum(fields$z), sum(1L - fields$z)),
           settings = list(covariates = study_terms(study), missing = fields$missing, graph = fields$by_graph))
  study
}

# What the models use, as text.
study_terms <- function(study) {
  if (is.null(study$formula)) paste(names(study$columns), collapse = " + ") else deparse1(study$formula[[2L]])
}

sampling_weight <- function(study) {
  refuse_remote(study)
  if (!is.null(study$s)) return(study$s)
  cache <- study$matrices
  if (is.null(cache)) return(rep(1, length(study$z)))
  if (is.null(cache$ones)) cache$ones <- rep(1, length(study$z))
  cache$ones
}

# The only way to change a study, a panel, a design or an effect: fields it has, by name; NULL leaves a field empty. A
# study with other rows or columns has other matrices.
amend <- function(x, ...) {
  changes <- list(...)
  stopifnot(length(changes) > 0L, names(changes) %in% names(x))
  if (inherits(x, "twin_study") && any(c("rows", "columns") %in% names(changes)) && !"matrices" %in% names(changes)) {
    changes["matrices"] <- list(new_matrix_cache())
  }
  x[names(changes)] <- changes
  x
}

# An effect with another variance, or other numbers: fields as in new_effect() or new_did(); what is not named stays.
amend_effect <- function(effect, ...) {
  effect <- amend(effect, ...)
  dimnames(effect$vcov) <- list(names(effect$estimate), names(effect$estimate))
  effect
}

# One of several effects, by name or number.
part_called <- function(effects, i, call = rlang::caller_env()) {
  known <- if (is.character(i)) i %in% names(effects) else i %in% seq_along(effects)
  if (length(i) == 1L && known) return(effects[[i]])
  abort_input("There is no effect {.val {i}}; there are {.val {names(effects)}}.", call = call)
}
