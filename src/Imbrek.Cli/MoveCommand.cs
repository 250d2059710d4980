using System.CommandLine;
using System.Globalization;
using System.Text.Json;
using Imbrek.Core.Moves;
using Imbrek.Core.Recovery;
using Spectre.Console;

namespace Imbrek.Cli;

/// <summary><c>move</c>: the rounds of a move with little downtime, and whether the last one fits into its window.</summary>
internal static class MoveCommand
{
    private static readonly JsonSerializerOptions Indented = new() { WriteIndented = true };

    public static Command Create()
    {
        Option<string> size = Needed("--size", "Bytes of the database."), change = Needed("--change", "Bytes per second that change."), rate = Needed("--rate", "Bytes per second that are moved.");
        Option<string> round = Needed("--round", "Fixed seconds a round."), window = Needed("--window", "Seconds in which it may be read-only.");
        Option<string> metadata = Needed("--metadata", "Seconds for what is not in the database."), check = Needed("--check", "Seconds to check it.");
        Option<string?> read = new("--read") { Description = "Bytes per second at which the source is read whole in each round, where it does not track what changes." };
        Option<string?> most = new("--most") { Description = $"The most rounds after the first; {MoveQuestion.UsualMost} when left out." };
        Option<bool> json = Inputs.Json();
        var command = new Command("move", "The rounds of a move with little downtime.") { size, change, rate, round, window, metadata, check, read, most, json };
        command.SetAction(p => Run(
            new MoveQuestion(
                Figure(size, p.GetValue(size)!),
                Figure(change, p.GetValue(change)!),
                Figure(rate, p.GetValue(rate)!),
                Figure(round, p.GetValue(round)!),
                Figure(window, p.GetValue(window)!),
                Figure(metadata, p.GetValue(metadata)!),
                Figure(check, p.GetValue(check)!),
                p.GetValue(read) is { } r ? Figure(read, r) : null,
                p.GetValue(most) is { } m ? Whole(most, m) : MoveQuestion.UsualMost),
            p.GetValue(json)));
        return command;

        static Option<string> Needed(string name, string description) => new(name) { Description = description, Required = true };
    }

    private static int Run(MoveQuestion question, bool json)
    {
        if (question.Fault() is var (member, why))
        {
            throw new InputException($"--{member}: {why}");
        }

        var forecast = MoveForecast.Of(question);
        if (json)
        {
            Console.WriteLine(JsonSerializer.Serialize(
                new
                {
                    rounds = forecast.Rounds.Select(r => new { data = r.Data, seconds = r.Seconds }),
                    last = new { data = forecast.Last.Data, seconds = forecast.Last.Seconds },
                    downtimeSeconds = forecast.DowntimeSeconds,
                    fits = forecast.Fits,
                    totalSeconds = forecast.TotalSeconds,
                },
                Indented));
            return 0;
        }

        var table = new Table().AddColumns("Round", "Bytes", "Takes");
        foreach (var (r, i) in forecast.Rounds.Select((r, i) => (r, i)))
        {
            table.AddRow(i.ToString(CultureInfo.InvariantCulture), Bytes(r), PlainDuration.Of(r.Seconds));
        }

        AnsiConsole.Write(table.AddRow("last, read-only", Bytes(forecast.Last), PlainDuration.Of(forecast.Last.Seconds)));
        Console.WriteLine($"read-only for {PlainDuration.Of(forecast.DowntimeSeconds)} of {PlainDuration.Of(question.Window)}; {PlainDuration.Of(forecast.TotalSeconds)} in all");
        if (MoveForecast.RemedyOf(question) is { } remedy)
        {
            string[] ways =
            [
                $"a window of {PlainDuration.Of(remedy.Window)}",
                .. remedy.Rate is { } faster ? [$"{faster.ToString("#,0", CultureInfo.InvariantCulture)} bytes/s moved"] : Array.Empty<string>(),
                .. remedy.Change is { } less ? [$"{less.ToString("#,0", CultureInfo.InvariantCulture)} bytes/s that change"] : Array.Empty<string>(),
            ];
            Console.WriteLine($"it does not fit; it would with {string.Join(", or ", ways)}");
        }

        return 0;

        static string Bytes(MoveForecast.Round r) => r.Data.ToString("#,0", CultureInfo.InvariantCulture);
    }

    private static double Figure(Option option, string text) =>
        double.TryParse(text, NumberStyles.Float, CultureInfo.InvariantCulture, out var value) && double.IsFinite(value) ? value : throw new InputException($"{option.Name}: '{text}' is not a number");

    private static int Whole(Option option, string text) =>
        int.TryParse(text, NumberStyles.None, CultureInfo.InvariantCulture, out var n) ? n : throw new InputException($"{option.Name}: '{text}' is not a whole number");
}
