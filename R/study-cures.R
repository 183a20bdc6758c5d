#' How 1,800 crews cure their catch (simulated)
#'
#' A made-up season in which crews sell the catch fresh, salted or smoked. Crews far from the market salt, those with
#' large boats and in large ports smoke, and all of that moves prices by itself. Salt pays where the way is long, smoke
#' on large boats. Simulated by `data-raw/cures.R`; the true differences are in [cures_truth].
#'
#' @format A data frame with 1,800 rows and the columns
#' \describe{
#'   \item{crew_id}{name of the crew}
#'   \item{harbour}{one of 60 harbours, whose bay moves the price}
#'   \item{cure}{`"fresh"`, `"salted"` or `"smoked"`}
#'   \item{boat_length}{metres}
#'   \item{crew_size}{people}
#'   \item{port_size}{`"small"`, `"medium"` or `"large"`}
#'   \item{past_price}{price of a crate in the season before, shells}
#'   \item{market_km}{distance to the market; 50 are missing}
#'   \item{price}{price of a crate, shells}
#'   \item{sold}{is the catch sold within the week? `"yes"` or `"no"`}
#'   \item{days}{days until it is sold, at most 30}
#'   \item{gone}{`TRUE` when it was sold within the 30 days that were watched}
#' }
#' @family data
#' @examples
#' table(cures$cure)
"cures"

#' True differences of the simulated cures
#'
#' What salting and smoking do to the price and to the share sold within the week, against selling fresh: for all crews
#' of [cures] (`"ATE"`), for those who did so (`"ATT"`) and for those who sold fresh (`"ATC"`).
#'
#' @format A data frame with 12 rows: `outcome`, `cure`, `estimand`, `truth`.
#' @family data
#' @examples
#' cures_truth
"cures_truth"
