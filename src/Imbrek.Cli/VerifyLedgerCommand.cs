using System.CommandLine;
using Imbrek.Core.Evidence;

namespace Imbrek.Cli;

/// <summary><c>verify-ledger</c>: checks an exported ledger entry by entry.</summary>
internal static class VerifyLedgerCommand
{
    public static Command Create()
    {
        Argument<string> file = new("file") { Description = "The exported ledger (JSON Lines)." };
        var command = new Command("verify-ledger", "Checks that an exported ledger is whole and unchanged.") { file };
        command.SetAction(p => Run(p.GetValue(file)!));
        return command;
    }

    private static int Run(string path)
    {
        var entries = new List<LedgerEntry>();
        string[] lines;
        try
        {
            lines = File.ReadAllLines(path);
        }
        catch (Exception e) when (e is IOException or UnauthorizedAccessException)
        {
            throw new InputException($"cannot read {path}: {e.Message}");
        }

        for (var i = 0; i < lines.Length; i++)
        {
            if (lines[i].Length == 0)
            {
                continue;
            }

            try
            {
                entries.Add(LedgerFile.ReadLine(lines[i]));
            }
            catch (FormatException e)
            {
                throw new InputException($"{path}:{i + 1}: {e.Message}");
            }
        }

        if (LedgerFile.WhatIsWrong(entries) is { } wrong)
        {
            Console.Error.WriteLine($"imbrek: {path}: {wrong}");
            return 2;
        }

        Console.WriteLine(entries.Count == 0
            ? "The ledger is empty."
            : $"{entries.Count} entries hold, from {entries[0].At} to {entries[^1].At}; last hash {entries[^1].Hash}");
        return 0;
    }
}
