return await Imbrek.Server.ImbrekServer.RunAsync(args);
