using Npgsql;

namespace Imbrek.Server.Features.Dispatch;

/// <summary>Dispatch by the machine's clock: whichever process can leads, and decides when something is due, ended or asked for.</summary>
internal sealed class RealPace(Dispatcher dispatcher, NodaTime.IClock clock, ILogger<RealPace> log) : BackgroundService
{
    private static readonly TimeSpan Look = TimeSpan.FromSeconds(1);

    /// <inheritdoc/>
    protected override async Task ExecuteAsync(CancellationToken stoppingToken)
    {
        while (!stoppingToken.IsCancellationRequested)
        {
            try
            {
                if (!dispatcher.Leads && !await dispatcher.TryLeadAsync(stoppingToken))
                {
                    await dispatcher.FollowAsync(stoppingToken);
                    await dispatcher.WaitAsync(Look, stoppingToken);
                    continue;
                }

                await dispatcher.StepAsync(stoppingToken);
                var next = dispatcher.NextAt is { } at ? (at - clock.GetCurrentInstant()).ToTimeSpan() : Look;
                await dispatcher.WaitAsync(next < TimeSpan.Zero ? TimeSpan.Zero : next < Look ? next : Look, stoppingToken);
            }
            catch (Exception) when (stoppingToken.IsCancellationRequested)
            {
                break;
            }
            catch (Exception e)
            {
                // Whatever it is, the server goes on and tries again; only nothing starts until then.
                log.LogWarning(e is NpgsqlException or DispatchLead.LostException or InvalidOperationException ? null : e, "Nothing is started for the moment: {Reason}", e.Message);
                await dispatcher.LeaveAsync();
                await dispatcher.WaitAsync(Look, CancellationToken.None);
            }
        }

        await dispatcher.LeaveAsync();
    }
}
