"""The one least-squares engine: estimates, covariance, residuals and the statistics that say whether to
believe them."""
