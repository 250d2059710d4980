using System.CommandLine;
using System.Globalization;
using System.Text.Json;
using Imbrek.Core.Drills;

namespace Imbrek.Cli;

/// <summary><c>programme</c>: how many databases must be tested to show what of all, or what those that were tested show.</summary>
internal static class ProgrammeCommand
{
    private static readonly JsonSerializerOptions Indented = new() { WriteIndented = true };

    public static Command Create()
    {
        Option<string> population = new("--population") { Description = "How many databases there are.", Required = true };
        Option<string> confidence = new("--confidence") { Description = "With what confidence, above 0 and below 1.", Required = true };
        Option<string?> share = new("--share") { Description = "How many must be tested to show that at most this share fails, 0 to 1." };
        Option<string?> tested = new("--tested") { Description = "How many were drawn at random and tested." };
        Option<string?> failed = new("--failed") { Description = "How many of those failed." };
        Option<bool> json = Inputs.Json();
        var command = new Command("programme", "How many tests show what, exactly.") { population, confidence, share, tested, failed, json };
        command.SetAction(p => Run(p.GetValue(population)!, p.GetValue(confidence)!, p.GetValue(share), p.GetValue(tested), p.GetValue(failed), p.GetValue(json)));
        return command;
    }

    private static int Run(string populationText, string confidenceText, string? shareText, string? testedText, string? failedText, bool json)
    {
        var population = Whole("--population", populationText, 1, Confidence.MostPopulation);
        var confidence = Share("--confidence", confidenceText);
        if (confidence.Over.IsZero || confidence.Over >= confidence.Under)
        {
            throw new InputException($"--confidence: '{confidenceText}' is not above 0 and below 1");
        }

        if (shareText is not null == testedText is not null || testedText is null != failedText is null)
        {
            throw new InputException(shareText is null ? "give --share, or --tested and --failed" : "--share: goes without --tested and --failed");
        }

        if (shareText is not null)
        {
            var share = Share("--share", shareText);
            if (share.Over > share.Under)
            {
                throw new InputException($"--share: '{shareText}' is not 0 to 1");
            }

            var needed = Confidence.Needed(population, confidence, share);
            Console.WriteLine(json
                ? JsonSerializer.Serialize(new { needed }, Indented)
                : $"{needed} of {population}, all passed, show with confidence {confidenceText} that at most a share of {shareText} fails");
            return 0;
        }

        var tested = Whole("--tested", testedText!, 0, population);
        var failed = Whole("--failed", failedText!, 0, tested);
        var most = Confidence.AtMostFailing(population, tested, failed, confidence);
        Console.WriteLine(json
            ? JsonSerializer.Serialize(new { atMostFailing = most, share = (double)most / population }, Indented)
            : $"with confidence {confidenceText} at most {most} of {population} fail");
        return 0;
    }

    private static int Whole(string option, string text, int least, int most) =>
        int.TryParse(text, NumberStyles.None, CultureInfo.InvariantCulture, out var n) && n >= least && n <= most
            ? n
            : throw new InputException($"{option}: '{text}' is not a whole number from {least} to {most}");

    private static DecimalShare Share(string option, string text) =>
        DecimalShare.TryParse(text, out var share) ? share : throw new InputException($"{option}: '{text}' is not a decimal number of at most {DecimalShare.MostDigits} digits");
}
