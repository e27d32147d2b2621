"""The one plan of who runs where and when. Jobs start from it, forecasts read it, and reasons for waiting come from it."""
