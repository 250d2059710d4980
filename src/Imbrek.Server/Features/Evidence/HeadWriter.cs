using Imbrek.Core.Evidence;
using Imbrek.Data;
using Microsoft.EntityFrameworkCore;
using Npgsql;

namespace Imbrek.Server.Features.Evidence;

/// <summary>
/// Writes signed heads of the ledger to a folder outside the database (<c>--ledger-heads FOLDER</c>), best one whose files are locked against
/// change: a file for each head, written once, at the start and then every few minutes when entries came.
/// </summary>
internal sealed class HeadWriter(NpgsqlDataSource source, Installation installation, IConfiguration configuration, ILogger<HeadWriter> log) : BackgroundService
{
    private static readonly TimeSpan Every = TimeSpan.FromMinutes(5);

    /// <inheritdoc/>
    protected override async Task ExecuteAsync(CancellationToken stoppingToken)
    {
        if (configuration["ledger-heads"] is not { Length: > 0 } folder)
        {
            return;
        }

        var written = -1L;
        using var timer = new PeriodicTimer(Every);
        do
        {
            try
            {
                await using var data = ImbrekDatabase.Context(source);
                var last = await data.Ledger.AsNoTracking().OrderByDescending(e => e.Number).FirstOrDefaultAsync(stoppingToken);
                if ((last?.Number ?? 0) != written)
                {
                    await WriteAsync(folder, installation.Head(last is null ? null : LedgerTable.ToEntry(last)), stoppingToken);
                    written = last?.Number ?? 0;
                }
            }
            catch (Exception e) when (e is NpgsqlException or IOException or UnauthorizedAccessException or InvalidOperationException && !stoppingToken.IsCancellationRequested)
            {
                log.LogWarning("The head of the ledger could not be written to {Folder}: {Reason}", folder, e.Message);
            }
        }
        while (await timer.WaitForNextTickAsync(stoppingToken));
    }

    /// <summary>Writes a head unless another process has written the same one: whole or not at all.</summary>
    private static async Task WriteAsync(string folder, LedgerHead head, CancellationToken cancel)
    {
        Directory.CreateDirectory(folder);
        var file = Path.Combine(folder, $"head-{head.Number:D12}-{head.Hash[..12]}.json");
        if (!File.Exists(file))
        {
            var part = Path.Combine(folder, $".{Guid.NewGuid():n}.part");
            await File.WriteAllTextAsync(part, LedgerFile.WriteLine(head) + "\n", cancel);
            File.Move(part, file, overwrite: true);
        }
    }
}
